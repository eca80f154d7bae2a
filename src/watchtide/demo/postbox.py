"""The demo's receivers: a mail server whose mail can be read on a page, and a hook that fails when it is set to."""

import json
from collections import deque
from dataclasses import dataclass
from email import message_from_bytes, policy
from email.message import EmailMessage
from html import escape
from pathlib import Path
from urllib.parse import quote

HTML = "text/html; charset=utf-8"
MOST_BYTES = 4 * 2**20
MOST_KEPT = 200


@dataclass(frozen=True)
class Hooked:
    """A message that the hook took: its headers' names in small letters."""

    headers: dict[str, str]
    body: str
    status: int


class Postbox:
    """Mail in a folder, one file each, the oldest deleted; the last messages of the hook in memory."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self.hooked: deque[Hooked] = deque(maxlen=MOST_KEPT)
        self.hook_status = 204

    def serve(self, port: int) -> None:
        """Take mail on this port of the loopback, in a thread."""
        from aiosmtpd.controller import Controller

        Controller(self, hostname="127.0.0.1", port=port, data_size_limit=MOST_BYTES).start()

    async def handle_DATA(self, server, session, envelope) -> str:  # type: ignore[no-untyped-def]
        kept = sorted(self.folder.glob("*.eml"))
        number = int(kept[-1].stem) + 1 if kept else 1
        (self.folder / f"{number:06d}.eml").write_bytes(envelope.content)
        for old in kept[: len(kept) + 1 - MOST_KEPT]:
            old.unlink(missing_ok=True)
        return "250 taken"

    def mails(self) -> list[tuple[int, EmailMessage]]:
        """The latest first, each with its number."""
        return [(int(p.stem), _read(p)) for p in sorted(self.folder.glob("*.eml"), reverse=True)]

    def mail(self, number: int) -> EmailMessage | None:
        path = self.folder / f"{number:06d}.eml"
        return _read(path) if path.is_file() else None

    def take_hook(self, headers: dict[str, str], body: bytes) -> int:
        """Keep a message; the status to answer with."""
        small = {k.lower(): v for k, v in headers.items()}
        self.hooked.appendleft(Hooked(small, body.decode(errors="replace"), self.hook_status))
        return self.hook_status

    def answer_hooks(self, status: int) -> None:
        """Answer with this status from now on. Raises ValueError for what is none."""
        if not 200 <= status <= 599:
            raise ValueError(status)
        self.hook_status = status


def _read(path: Path) -> EmailMessage:
    found = message_from_bytes(path.read_bytes(), policy=policy.default)
    assert isinstance(found, EmailMessage)
    return found


def page(box: Postbox, path: str) -> tuple[bytes, str] | None:
    """What to answer on a path of this module, and its type; None where it is none of them."""
    parts = path.strip("/").split("/")
    if parts == ["hook"]:
        return _hooks(box).encode(), HTML
    if parts[0] != "mail" or len(parts) > 3:
        return None
    if len(parts) == 1:
        return _inbox(box).encode(), HTML
    mail = box.mail(int(parts[1])) if parts[1].isdigit() else None
    if mail is None:
        return None
    if len(parts) == 2:
        return _letter(int(parts[1]), mail).encode(), HTML
    return _part(mail, parts[2])


def framed(title: str, body: str) -> str:
    return f"""<!doctype html><html lang="en"><head><meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1"><title>{escape(title)}</title><style>
body {{ margin: 0 auto; max-width: 860px; padding: 16px; background: #f6f1e4; color: #16283a; font: 15px/1.45 Verdana, sans-serif; }}
h1, h2 {{ font-family: Georgia, serif; font-weight: 500; }} a {{ color: inherit; }}
table {{ border-collapse: collapse; width: 100%; }} td, th {{ text-align: left; padding: 6px 10px 6px 0; border-bottom: 1px solid #d8cdb2; vertical-align: top; }}
iframe {{ width: 100%; height: 900px; border: 1px solid #7d8c94; background: #fff; }} pre {{ white-space: pre-wrap; overflow-wrap: anywhere; }}
button {{ font: inherit; padding: 6px 14px; }}
</style></head><body><h1>{escape(title)}</h1>{body}</body></html>"""


def _inbox(box: Postbox) -> str:
    rows = "".join(
        f'<tr><td><a href="/mail/{n}">{escape(m["Subject"] or "")}</a></td>'
        f"<td>{escape(m['To'] or '')}</td><td>{escape(m['Date'] or '')}</td></tr>"
        for n, m in box.mails()
    )
    table = f"<table><tr><th>Subject</th><th>To</th><th>Sent</th></tr>{rows}</table>"
    return framed(
        "Mail of the demo",
        f'<p><a href="/">The harbour</a></p>{table if rows else "<p>None has come yet.</p>"}',
    )


def _letter(number: int, mail: EmailMessage) -> str:
    heads = "".join(
        f"<tr><th>{name}</th><td>{escape(mail[name])}</td></tr>"
        for name in ("From", "To", "Subject", "Date", "Message-ID", "In-Reply-To", "Auto-Submitted")
        if mail[name]
    )
    files = "".join(
        f'<li><a href="/mail/{number}/{quote(f.get_filename() or "file")}">{escape(f.get_filename() or "file")}</a></li>'
        for f in mail.iter_attachments()
    )
    plain = mail.get_body(("plain",))
    text = escape(plain.get_content()) if plain is not None else ""
    return framed(
        mail["Subject"] or "Mail",
        f"""<p><a href="/mail">All mail</a></p><table>{heads}</table><ul>{files}</ul>
        <iframe src="/mail/{number}/html" title="The mail as HTML" sandbox="allow-popups allow-top-navigation-by-user-activation"></iframe>
        <h2>As plain text</h2><pre>{text}</pre>""",
    )


def _part(mail: EmailMessage, name: str) -> tuple[bytes, str] | None:
    """The HTML of a mail with its picture at hand, the picture, or an attachment."""
    html = mail.get_body(("html",))
    if name == "html" and html is not None:
        return str(html.get_content()).replace("cid:picture", "picture").replace(
            "<head>", '<head><base target="_top">'
        ).encode(), HTML
    for part in mail.walk():
        if (name == "picture" and part.get_content_type() == "image/png") or part.get_filename() == name:
            return part.get_payload(decode=True), part.get_content_type()  # type: ignore[return-value]
    return None


def _hooks(box: Postbox) -> str:
    rows = "".join(
        f"<tr><td>{h.status}</td><td>{escape(h.headers.get('webhook-id', ''))}</td><td><pre>{escape(_neat(h.body))}</pre></td></tr>"
        for h in box.hooked
    )
    choices = " ".join(f'<button name="of" value="{s}">{s}</button>' for s in (204, 503, 302))
    return framed(
        "What the hook took",
        f"""<p><a href="/">The harbour</a></p>
        <form method="post" action="/hook-status"><p>It answers {box.hook_status}. Answer instead: {choices}</p></form>
        <table><tr><th>Answered</th><th>Id</th><th>Body</th></tr>{rows}</table>""",
    )


def _neat(body: str) -> str:
    try:
        return json.dumps(json.loads(body), indent=1)[:4_000]
    except ValueError:
        return body[:4_000]

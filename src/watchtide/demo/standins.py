"""Simulated outside services: an OTLP sender, an OpenMetrics page and a calendar that play the harbour on; a mail server
and a hook that take what is announced.

`python -m watchtide.demo.standins --port N --to URL --token-file F [--pace 60] [--smtp-port M]`. Simulated time goes on
from the end of the history, `pace` times as fast as the clock on the wall. On port N: `/` says what there is, `/mail` shows
the mail that came, `/hook` takes notices and shows them.
"""

import argparse
import json
import sys
import threading
import time
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import httpx
import numpy as np
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from watchtide.demo import more, postbox, world
from watchtide.tables import clock

END_S = int(world.START.timestamp()) + world.WEEKS * 7 * world.DAY
STEP_S = 300
HOUR = 3_600
# A pause longer than this is not made up for: a sender that was off has nothing to tell.
MOST_STEPS = 200
# What can go wrong in the harbour, by a click or `POST /misbehave?how=…&minutes=…` of simulated time.
FAULTS = {
    "double": "every tap is counted twice, as after the restart of the feed",
    "storm": "ferries stay in port: few taps, and water a metre higher",
    "stuck": "the gauge at Northquay repeats its last level",
    "silent": "nothing comes from the gates of Gullhaven",
}


@dataclass
class Harbour:
    """The simulated clock, and what the counters stand at."""

    pace: float
    state_file: Path
    now_s: float = field(default=float(END_S))
    fault: str = ""
    fault_until_s: float = 0.0
    stuck_at: float | None = None
    pages: dict[str, int] = field(default_factory=lambda: {"web": 0, "counter": 0})
    lock: threading.Lock = field(default_factory=threading.Lock)

    def load(self) -> None:
        if self.state_file.is_file():
            self.now_s = max(float(json.loads(self.state_file.read_text())["now_s"]), float(END_S))

    def advance(self, seconds: float) -> list[int]:
        """Move on by so much time on the wall; the 5-minute steps that ended in it, in UTC seconds of their begin."""
        with self.lock:
            before = int(self.now_s) // STEP_S
            self.now_s += seconds * self.pace
            after = int(self.now_s) // STEP_S
            self.state_file.write_text(json.dumps({"now_s": self.now_s}))
        return [k * STEP_S for k in range(max(before, after - MOST_STEPS), after)]

    def misbehave(self, fault: str, minutes: float) -> None:
        """Let something go wrong for so long, in simulated time. Raises KeyError for a fault that there is not."""
        FAULTS[fault]
        self.fault, self.fault_until_s, self.stuck_at = fault, self.now_s + 60 * minutes, None

    def has(self, fault: str) -> bool:
        return self.fault == fault and self.now_s < self.fault_until_s


def _local(at: int) -> tuple[np.ndarray, np.ndarray]:
    offset = clock.utc_offsets(np.array([at * 10**9]), world.ZONE)[0] // 10**9
    local = at + int(offset)
    return np.array([local % 86_400 / HOUR]), np.array([(local // 86_400 + 3) % 7])


def message(harbour: Harbour, at: int) -> ExportMetricsServiceRequest:
    """What the harbour's relay sends for the step that began then: taps, berth levels, receivers, holds."""
    request = ExportMetricsServiceRequest()
    metrics = request.resource_metrics.add().scope_metrics.add().metrics
    rng = np.random.default_rng([world.SEED, at])
    hour, day = _local(at)
    if at % 900 == 0:
        taps = metrics.add(name="gate_taps").sum
        taps.aggregation_temporality = 1
        for place, size in zip(world.PLACES, world.PLACE_SIZE, strict=True):
            if place == "Gullhaven" and harbour.has("silent"):
                continue
            for fare, share in zip(world.FARES, world.FARE_SIZE, strict=True):
                mean = 240 * size * share * float(world.gate_profile(hour, day, fare)[0])
                mean *= 0.1 if harbour.has("storm") else 1
                seen = int(rng.poisson(mean)) * (2 if harbour.has("double") else 1)
                _point(taps.data_points, at, seen, place=place, fare=fare)
    if at % 600 == 0:
        level = metrics.add(name="berth_level").gauge
        for i, place in enumerate(world.PLACES):
            value = 2.9 - 0.12 * i + float(world.tide(np.array([at / HOUR]), i)[0]) + rng.normal(0, 0.025)
            value += 1.0 if harbour.has("storm") else 0.0
            if i == 0 and harbour.has("stuck"):
                harbour.stuck_at = value if harbour.stuck_at is None else harbour.stuck_at
                value = harbour.stuck_at
            _point(level.data_points, at, round(value, 2), place=place)
    seen = metrics.add(name="berth_messages").sum
    seen.aggregation_temporality = 1
    for place, size in zip(world.PLACES, world.PLACE_SIZE, strict=True):
        mean = 60 * size * (0.25 + float((world._bump(hour, 9, 3) + world._bump(hour, 17, 3.5))[0])) + 3
        _point(seen.data_points, at, int(rng.poisson(mean)), receiver=place)
    return request


def _point(points, at: int, value: float, **attributes: str) -> None:  # type: ignore[no-untyped-def]
    point = points.add(time_unix_nano=at * 10**9)
    if isinstance(value, int):
        point.as_int = value
    else:
        point.as_double = value
    for name, word in attributes.items():
        point.attributes.add(key=name).value.string_value = word


def play(harbour: Harbour, url: str, token: str) -> None:
    """Send what happens, until the process ends; what cannot be delivered is tried again, as a real sender does."""
    waiting: list[int] = []
    client = httpx.Client(timeout=20, trust_env=False)
    headers = {"Authorization": f"Bearer {token}", "Content-Type": "application/x-protobuf"}
    last = time.monotonic()
    while True:
        time.sleep(0.5)
        now = time.monotonic()
        waiting = (waiting + harbour.advance(now - last))[-MOST_STEPS:]
        last = now
        while waiting:
            body = message(harbour, waiting[0]).SerializeToString()
            try:
                answer = client.post(f"{url}/v1/metrics", content=body, headers=headers)
            except httpx.HTTPError:
                break
            if answer.status_code == 429 or answer.status_code >= 500:
                time.sleep(float(answer.headers.get("Retry-After", 2)))
                break
            if answer.status_code != 200:
                print(
                    f"the application refused the harbour's message: {answer.text[:200]}",
                    file=sys.stderr,
                    flush=True,
                )
            waiting.pop(0)


def page(harbour: Harbour) -> str:
    """OpenMetrics text: counters of ticket requests, and two gauges, as of now on the wall."""
    rng = np.random.default_rng()
    hour, _ = _local(int(harbour.now_s))
    with harbour.lock:
        for channel, size in (("web", 160), ("counter", 25)):
            busy = 0.08 + float((world._bump(hour, 10.5, 2.6) + 0.7 * world._bump(hour, 15, 2))[0])
            harbour.pages[channel] += int(rng.poisson(size * busy * (2 if harbour.has("double") else 1)))
        counts = dict(harbour.pages)
    lines = ["# TYPE ticket_requests counter", "# HELP ticket_requests Requests served since the start."]
    lines += [f'ticket_requests_total{{channel="{c}"}} {n}' for c, n in counts.items()]
    lines += ["# TYPE ticket_queue gauge", f"ticket_queue {int(rng.poisson(4 * busy + 1))}"]
    lines += ["# TYPE harbour_pace gauge", f"harbour_pace {harbour.pace:g}", "# EOF"]
    return "\n".join(lines) + "\n"


def handler(harbour: Harbour, box: postbox.Postbox) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            path = urlsplit(self.path).path
            if path == "/metrics":
                self._answer(
                    page(harbour).encode(), "application/openmetrics-text; version=1.0.0; charset=utf-8"
                )
            elif path == "/calendar.ics":
                self._answer(more.calendar_ics(), "text/calendar; charset=utf-8")
            elif (found := postbox.page(box, path)) is not None:
                self._answer(*found)
            elif path == "/":
                self._answer(start_page(harbour).encode(), postbox.HTML)
            else:
                self.send_error(404)

        def do_POST(self) -> None:
            parts = urlsplit(self.path)
            body = self.rfile.read(min(int(self.headers.get("Content-Length") or 0), postbox.MOST_BYTES))
            if parts.path == "/hook":
                self.send_response(box.take_hook(dict(self.headers), body))
                self.send_header("Content-Length", "0")
                self.end_headers()
                return
            given = parse_qs(parts.query) | parse_qs(body.decode(errors="replace"))
            try:
                if parts.path == "/misbehave":
                    harbour.misbehave(given.get("how", ["double"])[0], float(given.get("minutes", ["60"])[0]))
                elif parts.path == "/pace":
                    harbour.pace = min(max(float(given["of"][0]), 0.0), 36_000.0)
                elif parts.path == "/hook-status":
                    box.answer_hooks(int(given["of"][0]))
                else:
                    self.send_error(404)
                    return
            except (KeyError, ValueError):
                self.send_error(400)
                return
            # Back to where the button was; a script gets the same.
            self.send_response(303)
            self.send_header("Location", "/")
            self.send_header("Content-Length", "0")
            self.end_headers()

        def _answer(self, body: bytes, kind: str) -> None:
            self.send_response(200)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            return

    return Handler


def start_page(harbour: Harbour) -> str:
    """What there is here: the mail, the hook, and what can go wrong."""
    now = clock.format_time(int(harbour.now_s) * 10**9)
    buttons = "".join(
        f'<p><button name="how" value="{fault}">{fault}</button> {words}</p>'
        for fault, words in FAULTS.items()
    )
    state = f"Now: {FAULTS[harbour.fault]}." if harbour.fault and harbour.has(harbour.fault) else ""
    return postbox.framed(
        "The harbour of the demo",
        f"""<p>It is {now} in the harbour, where a second takes {harbour.pace:g}. {state}</p>
        <p><a href="/mail">Read the mail</a> · <a href="/hook">What the hook took</a></p>
        <h2>Let something go wrong for an hour of the harbour</h2>
        <form method="post" action="/misbehave?minutes=60">{buttons}</form>""",
    )


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--port", type=int, required=True)
    parser.add_argument("--to", required=True)
    parser.add_argument("--token-file", type=Path, required=True)
    parser.add_argument("--pace", type=float, default=60.0)
    parser.add_argument("--smtp-port", type=int, help="of the mail server; without it there is none")
    options = parser.parse_args()
    harbour = Harbour(options.pace, options.token_file.with_name("harbour.json"))
    harbour.load()
    box = postbox.Postbox(options.token_file.with_name("mail"))
    if options.smtp_port:
        box.serve(options.smtp_port)
    server = ThreadingHTTPServer(("127.0.0.1", options.port), handler(harbour, box))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    play(harbour, options.to, options.token_file.read_text().strip())


if __name__ == "__main__":
    main()

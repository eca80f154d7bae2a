"""Calls to the outside: only to addresses that are allowed, resolved once, without redirects, bounded in size."""

import asyncio
import ipaddress
import socket
from dataclasses import dataclass
from urllib.parse import urlsplit, urlunsplit

import httpx
from django.conf import settings

from watchtide.server.problems import Problem

AGENT = "watchtide"


class NotAllowed(ValueError):
    """The address may not be called; the message says which and what an admin can do."""


class Failed(ValueError):
    """The call was made and brought nothing usable."""


@dataclass(frozen=True)
class Answer:
    body: bytes
    content_type: str


def address_of(url: str) -> tuple[str, int, str]:
    """(address to connect to, port, host name) of a URL, once every address of its host is found to be allowed."""
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise NotAllowed(f"{url[:80]!r} is no web address; write http://host/path")
    if parts.username or parts.password:
        raise NotAllowed("the address holds a password; leave it out")
    try:
        port = parts.port or (443 if parts.scheme == "https" else 80)
    except ValueError as error:
        raise NotAllowed("the port is no number up to 65535; correct it") from error
    try:
        found = socket.getaddrinfo(parts.hostname, port, type=socket.SOCK_STREAM)
    except (socket.gaierror, UnicodeError) as error:
        raise Failed(f"{parts.hostname} cannot be resolved") from error
    addresses = list(dict.fromkeys(str(info[4][0]) for info in found))
    for address in addresses:
        if not is_allowed(address, port):
            raise NotAllowed(
                f"{parts.hostname} is {address}, which is not allowed; an admin can add it to WATCHTIDE_OUTGOING"
            )
    return addresses[0], port, parts.hostname


def checked(url: str, place: str) -> str:
    """A URL that may be called. Raises Problem, naming the place it was given in, for one that may not."""
    try:
        address_of(url)
    except (NotAllowed, Failed) as error:
        message, _, remedy = str(error).partition("; ")
        raise Problem(message, place=place, remedy=remedy or "check the address") from error
    return url


def is_allowed(address: str, port: int) -> bool:
    """Whether an address is in a network named in the settings; `10.0.0.5:9100` allows one port only."""
    ip = ipaddress.ip_address(address.partition("%")[0])
    mapped = getattr(ip, "ipv4_mapped", None)
    ip = mapped or ip
    for entry in settings.OUTGOING:
        network, only = entry, None
        if entry.count(":") == 1:
            network, _, text = entry.partition(":")
            only = int(text) if text.isdigit() else -1
        try:
            inside = ip in ipaddress.ip_network(network, strict=False)
        except (ValueError, TypeError):
            continue
        if inside and only in (None, port):
            return True
    return False


def fetch(url: str, *, timeout_s: float, most_bytes: int, accept: str = "*/*") -> Answer:
    """GET a page in so many seconds in all, however slowly it comes. Raises NotAllowed, or Failed with what went wrong in words."""
    return _call("GET", url, b"", {"Accept": accept}, timeout_s, most_bytes, (200, 200))


def send(
    url: str, body: bytes, headers: dict[str, str], *, timeout_s: float, most_bytes: int = 65_536
) -> Answer:
    """POST a body; anything from 200 to 299 is a success. Raises NotAllowed, or Failed with what went wrong in words.

    An answer larger than `most_bytes` is cut off there: what counts is that it was taken.
    """
    return _call("POST", url, body, headers, timeout_s, most_bytes, (200, 299), is_cut=True)


def _call(
    method: str,
    url: str,
    body: bytes,
    headers: dict[str, str],
    timeout_s: float,
    most_bytes: int,
    good: tuple[int, int],
    *,
    is_cut: bool = False,
) -> Answer:
    address, port, host = address_of(url)
    parts = urlsplit(url)
    shown = f"[{address}]" if ":" in address else address
    direct = urlunsplit((parts.scheme, f"{shown}:{port}", parts.path or "/", parts.query, ""))
    default = 443 if parts.scheme == "https" else 80
    own = {"Host": host if port == default else f"{host}:{port}", "User-Agent": AGENT, **headers}
    request = httpx.Request(method, direct, headers=own, content=body, extensions={"sni_hostname": host})
    try:
        return asyncio.run(_answer(request, timeout_s, most_bytes, good, is_cut))
    except (TimeoutError, httpx.TimeoutException) as error:
        raise Failed(f"no whole answer within {timeout_s:g} s") from error
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise Failed(f"{type(error).__name__}: {error}"[:200]) from error


async def _answer(
    request: httpx.Request, timeout_s: float, most_bytes: int, good: tuple[int, int], is_cut: bool
) -> Answer:
    async with (
        asyncio.timeout(timeout_s),
        httpx.AsyncClient(timeout=timeout_s, follow_redirects=False, trust_env=False) as client,
    ):
        answer = await client.send(request, stream=True)
        try:
            if not good[0] <= answer.status_code <= good[1]:
                raise Failed(f"answered {answer.status_code} {answer.reason_phrase}".strip())
            body = bytearray()
            async for part in answer.aiter_bytes():
                body += part
                if len(body) > most_bytes and is_cut:
                    break
                if len(body) > most_bytes:
                    raise Failed(f"the page is larger than {most_bytes >> 20} MB")
            return Answer(bytes(body[:most_bytes]), answer.headers.get("content-type", ""))
        finally:
            await answer.aclose()

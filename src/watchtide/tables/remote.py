"""Files at addresses: HTTP(S) and object stores, where whoever calls has allowed them outright."""

import os
import re
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from watchtide.extras import needed
from watchtide.tables.shape import Source

# Beginnings of addresses in the environment, by comma, beside those that a call allows.
VARIABLE = "WATCHTIDE_ADDRESSES"
# A larger file is better fetched by what does nothing else.
MOST_BYTES = 4 << 30
TIMEOUT_S = 60.0
_ADDRESS = re.compile(r"[a-z][a-z0-9+.-]*://", re.IGNORECASE)
_allowed: ContextVar[tuple[str, ...]] = ContextVar("allowed", default=())


class AddressError(ValueError):
    """An address that is not allowed, or whose file cannot be had. It names the address and the remedy."""

    def __init__(self, address: str, message: str, remedy: str) -> None:
        self.place, self.message, self.remedy = address, message, remedy
        super().__init__(f"{address}: {message}; {remedy}")


@contextmanager
def allowed(*beginnings: str) -> Iterator[None]:
    """Within this, files at addresses with one of these beginnings may be read and written, such as s3://lake/taps/."""
    for one in beginnings:
        if not is_address(one):
            raise AddressError(
                one, "is no beginning of an address", "write for example https://data.example/taps/"
            )
    token = _allowed.set((*_allowed.get(), *beginnings))
    try:
        yield
    finally:
        _allowed.reset(token)


def is_address(source: object) -> bool:
    return isinstance(source, str) and _ADDRESS.match(source) is not None


def fetched(source: Any) -> Any:
    """The bytes at an address; a path, bytes and a table in memory as they are. Raises AddressError."""
    return read(source) if is_address(source) else source


def name_of(source: Source) -> str:
    """What a source is called, and its kind read from: of an address its last part."""
    return (
        urlsplit(source).path.rsplit("/", 1)[-1]
        if isinstance(source, str) and is_address(source)
        else str(source)
    )


def read(address: str) -> bytes:
    """The file at an address. Raises AddressError."""
    _check(address)
    if address.startswith(("http://", "https://")):
        return _downloaded(address)
    with _store(address) as (store, place):
        if (size := store.size(place)) is not None and size > MOST_BYTES:
            raise _too_large(address)
        content: bytes = store.cat_file(place)
        return content


def write(address: str, data: bytes) -> None:
    """Put a file at an address, whole or not at all; over HTTP(S) by PUT. Raises AddressError."""
    _check(address)
    if address.startswith(("http://", "https://")):
        _uploaded(address, data)
        return
    with _store(address) as (store, place):
        # Object stores take a file whole or not at all.
        store.pipe_file(place, data)


def _check(address: str) -> None:
    """Raises AddressError where nobody has allowed the address."""
    stated = tuple(x.strip() for x in os.environ.get(VARIABLE, "").split(",") if x.strip())
    wanted = _parts(address)
    if not any(_is_within(wanted, _parts(one)) for one in (*_allowed.get(), *stated)):
        raise AddressError(
            address,
            "is not allowed",
            f"allow it with --allow, watchtide.allowed(…) or {VARIABLE}, such as {_example(address)}",
        )


# Scheme, host with port, parts of the path, and whether the path ends a folder.
Parts = tuple[str, str, tuple[str, ...], bool]


def _parts(address: str) -> Parts:
    """Raises AddressError for an ambiguous address."""
    split = urlsplit(address)
    path = unquote(split.path)
    if (
        "@" in split.netloc
        or "\\" in address
        or "::" in address
        or any(x in (".", "..") for x in path.split("/"))
    ):
        raise AddressError(address, "holds a name, a way back or a chain", "write it plainly")
    pieces = path.strip("/")
    return (
        split.scheme.lower(),
        split.netloc.lower(),
        tuple(pieces.split("/")) if pieces else (),
        path.endswith("/"),
    )


def _is_within(address: Parts, beginning: Parts) -> bool:
    """Whether an address is a beginning itself, or lies under it: under a host, or under whole folders of it."""
    scheme, host, path, _ = address
    own_scheme, own_host, own_path, is_folder = beginning
    if (scheme, host) != (own_scheme, own_host):
        return False
    return path[: len(own_path)] == own_path and (len(path) == len(own_path) or is_folder or not own_path)


def _example(address: str) -> str:
    return address.rsplit("/", 1)[0] + "/"


def _too_large(address: str) -> AddressError:
    return AddressError(address, f"is larger than {MOST_BYTES >> 30} GB", "fetch it first, and give the file")


def _downloaded(address: str) -> bytes:
    import httpx

    try:
        # Where it leads elsewhere nobody has allowed that.
        with httpx.stream("GET", address, timeout=TIMEOUT_S, follow_redirects=False) as answer:
            if not answer.is_success:
                raise AddressError(address, f"answered {answer.status_code}", "check the address")
            content = bytearray()
            for piece in answer.iter_bytes():
                content += piece
                if len(content) > MOST_BYTES:
                    raise _too_large(address)
            return bytes(content)
    except httpx.HTTPError as error:
        raise AddressError(address, f"cannot be read: {error}", "try again, or check the address") from error


def _uploaded(address: str, data: bytes) -> None:
    import httpx

    try:
        answer = httpx.put(address, content=data, timeout=TIMEOUT_S, follow_redirects=False)
    except httpx.HTTPError as error:
        raise AddressError(
            address, f"cannot be written: {error}", "try again, or check the address"
        ) from error
    if not answer.is_success:
        raise AddressError(
            address, f"answered {answer.status_code} to PUT", "check the address and who may write there"
        )


@contextmanager
def _store(address: str) -> Iterator[tuple[Any, str]]:
    """fsspec's client for an address, and the place there. Raises AddressError for whatever it has against it."""
    import fsspec

    protocol = address.partition("://")[0].lower()
    try:
        with needed("objects", f"{protocol}://"):
            # Listings are not kept: others write too.
            options = {"use_listings_cache": False} if protocol in ("s3", "s3a") else {}
            store, place = fsspec.core.url_to_fs(address, **options)
        yield store, place
    except (AddressError, KeyboardInterrupt):
        raise
    except FileNotFoundError as error:
        raise AddressError(address, "there is no such file", "check the address") from error
    except ImportError as error:
        raise AddressError(address, f"needs a package that is missing ({error})", "install it") from error
    except Exception as error:
        # Clients of object stores raise their own exception types.
        raise AddressError(
            address, f"cannot be used: {error}", "check the address, and the key to it"
        ) from error


def text_of(path: str | Path) -> str:
    """The text of a file, or of what is at an address. Raises OSError, UnicodeDecodeError, AddressError."""
    return read(str(path)).decode("utf-8") if is_address(path) else Path(path).read_text(encoding="utf-8")


def bytes_of(path: str | Path) -> bytes:
    """The bytes of a file, or of what is at an address. Raises OSError, AddressError."""
    return read(str(path)) if is_address(path) else Path(path).read_bytes()

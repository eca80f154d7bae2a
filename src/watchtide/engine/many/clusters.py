"""Tasks on a Dask cluster, in place of processes of this host.

The cluster only spreads work: which streams are scanned, and what is written of them, is settled where the scan was begun. So a scan
gives the same findings to the last bit wherever it runs, as long as the workers run the same code, which every task checks.
"""

import hashlib
import ipaddress
import os
import pickle
import platform
import socket
from collections.abc import Callable, Iterator
from concurrent.futures import Executor, Future
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from importlib import metadata
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

# Names in the environment of what an address needs beside it.
VARIABLES = {
    "ca": "WATCHTIDE_DASK_CA",
    "certificate": "WATCHTIDE_DASK_CERTIFICATE",
    "key": "WATCHTIDE_DASK_KEY",
}
ALLOWS_PLAIN = "WATCHTIDE_DASK_PLAIN"
# What results rest on beside our own code.
LIBRARIES = ("numpy", "scipy", "numba", "scikit-learn", "pyarrow")
CONNECT_SECONDS = 15


class ClusterError(ValueError):
    """A cluster that cannot be used; the message names the place and the remedy."""


@dataclass(frozen=True)
class Address:
    """Where a cluster's scheduler listens. ca, certificate, key : files in PEM form, needed with tls://; is_plain_allowed : whether
    tcp:// may be used within a private network; on this host it always may.

    Raises ClusterError for an address that may not be used.
    """

    url: str
    ca: str | None = None
    certificate: str | None = None
    key: str | None = None
    is_plain_allowed: bool = False

    def __post_init__(self) -> None:
        parts = urlsplit(self.url)
        if parts.scheme not in ("tls", "tcp") or not parts.hostname or not parts.port:
            raise ClusterError(
                f"cluster {self.url}: write tls://host:port, with the port that its scheduler listens on"
            )
        if parts.scheme == "tls":
            if not (self.ca and self.certificate and self.key):
                raise ClusterError(f"cluster {self.url}: tls:// needs a CA, a certificate and its key")
            missing = [p for p in (self.ca, self.certificate, self.key) if not Path(p).is_file()]
            if missing:
                raise ClusterError(f"cluster {self.url}: there is no file {missing[0]}")
        else:
            near = _addresses(parts.hostname)
            if not all(a.is_loopback or (self.is_plain_allowed and a.is_private) for a in near):
                raise ClusterError(
                    f"cluster {self.url}: tcp:// is neither encrypted nor signed in to; use tls://, or within a private network allow it outright"
                )


def stated(url: str) -> Address:
    """The address with what the environment says beside it. Raises ClusterError."""
    files = {name: os.environ.get(variable) or None for name, variable in VARIABLES.items()}
    is_plain_allowed = os.environ.get(ALLOWS_PLAIN, "").lower() in ("1", "true", "yes", "on")
    return Address(url, **files, is_plain_allowed=is_plain_allowed)


def _addresses(host: str) -> list[ipaddress.IPv4Address | ipaddress.IPv6Address]:
    """Every address of a host. Raises ClusterError where it has none."""
    try:
        return [ipaddress.ip_address(info[4][0]) for info in socket.getaddrinfo(host, None)]
    except OSError as error:
        raise ClusterError(f"cluster: {host} cannot be resolved: {error}") from error


@lru_cache(maxsize=1)
def code_digest() -> str:
    """Digest of our own code and of the versions of what its results rest on."""
    root = Path(__file__).parents[1]
    seal = hashlib.sha256(platform.python_version().encode())
    for name in LIBRARIES:
        seal.update(f" {name} {_version(name)}".encode())
    for file in sorted(root.rglob("*.py")):
        seal.update(f" {file.relative_to(root)} ".encode() + file.read_bytes())
    return seal.hexdigest()


def _version(name: str) -> str:
    try:
        return metadata.version(name)
    except metadata.PackageNotFoundError:
        # Not every installation can train networks.
        return "none"


def checked(digest: str, task: bytes) -> Any:
    """What a worker does of each task, a pickled function and its arguments, which are read only once the code is found to be the same.

    Raises ClusterError where it runs other code than who handed it out.
    """
    if code_digest() != digest:
        raise ClusterError(
            f"a worker on {socket.gethostname()} runs other code or other versions of {', '.join(LIBRARIES)}; "
            "install the same on all hosts"
        )
    # From who handed it out, as all that a cluster does is.
    work, arguments = pickle.loads(task)
    return work(*arguments)


def pickled(work: Callable[..., Any], *arguments: Any) -> bytes:
    """A task as `checked` takes it. To the scheduler, which would read anything else itself, it is bytes."""
    return pickle.dumps((work, arguments), pickle.HIGHEST_PROTOCOL)


class _Checking(Executor):
    """An executor whose tasks each check the code that does them."""

    def __init__(self, inner: Executor, digest: str) -> None:
        self._inner, self._digest = inner, digest

    def submit(self, work: Callable[..., Any], /, *args: Any, **_: Any) -> Future[Any]:
        return self._inner.submit(checked, self._digest, pickled(work, *args))


@dataclass(frozen=True)
class Cluster:
    """A cluster in use: what takes tasks, and how many it does at once."""

    executor: Executor
    jobs: int


@contextmanager
def joined(address: Address, first: Callable[[], object] = code_digest) -> Iterator[Cluster]:
    """The cluster at an address, its workers checked. first : what every worker does before any task; it raises where none may come.

    Tasks not done when it is left are cancelled; those of a lost worker are done again by another. Raises ClusterError.
    """
    with _client(address) as client:
        from distributed import KilledWorker

        threads = client.nthreads()
        if not threads:
            raise ClusterError(f"cluster {address.url} has no workers; start some")
        digest = code_digest()
        client.run(checked, digest, pickled(first))
        try:
            yield Cluster(_Checking(client.get_executor(pure=False), digest), sum(threads.values()))
        except KilledWorker as error:
            raise ClusterError(
                f"cluster {address.url} lost several workers over one task, as for want of memory: {error}"
            ) from error


def wait_for(address: Address, workers: int, seconds: float) -> None:
    """Wait until a cluster has so many workers. Raises ClusterError after so many seconds."""
    with _client(address, seconds) as client:
        try:
            client.wait_for_workers(workers, timeout=seconds)
        except TimeoutError as error:
            raise ClusterError(f"cluster {address.url}: its workers did not come: {error}") from error


@contextmanager
def _client(address: Address, seconds: float = CONNECT_SECONDS) -> Iterator[Any]:
    try:
        from distributed import Client, Security
    except ImportError as error:
        raise ClusterError("a cluster needs more packages: install watchtide[cluster]") from error
    security = None
    if address.url.startswith("tls"):
        security = Security(
            tls_ca_file=address.ca,
            tls_client_cert=address.certificate,
            tls_client_key=address.key,
            require_encryption=True,
        )
    try:
        client = Client(address.url, security=security, timeout=seconds, set_as_default=False)
    except (OSError, TimeoutError) as error:
        raise ClusterError(f"cluster {address.url} cannot be reached: {error}") from error
    try:
        yield client
    finally:
        # Whatever is still on its way is nobody's any more.
        client.close(timeout=CONNECT_SECONDS)


def arguments_of(address: Address) -> list[str]:
    """Arguments by which Dask's own commands find the files of an address."""
    files = {"--tls-ca-file": address.ca, "--tls-cert": address.certificate, "--tls-key": address.key}
    return [part for name, path in files.items() if path for part in (name, path)]

"""Files by name in one place: a folder, or an object store that fsspec knows. What lies there may be lost at any moment."""

import contextlib
import hashlib
import os
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import IO, Any

# What is raised where a file or its place cannot be had, or is not what it should be.
ERRORS = (OSError, ValueError)
PART = ".part"


@dataclass(frozen=True)
class Kept:
    """One file: its size in bytes, and when it was last used (in an object store: written), seconds since 1970."""

    name: str
    size: int
    used_at: float


@dataclass(frozen=True)
class Store:
    """A place for files, as plain data that a task carries to another process or host.

    root : a folder, or the URL of an object store as `s3://bucket/prefix`; options : what its client is given; copies : folder of this
    host where files of an object store are copied to be read, and files are put together before they go there.
    """

    root: str
    # Keys among them, which no log should have.
    options: tuple[tuple[str, str], ...] = field(default=(), repr=False)
    copies: str = ""

    @property
    def is_folder(self) -> bool:
        return "://" not in self.root

    def within(self, name: str) -> "Store":
        """The place of this name within this one."""
        copies = str(Path(self.copies) / name) if self.copies else ""
        return replace(self, root=f"{self.root.rstrip('/')}/{name}", copies=copies)

    def path(self, name: str) -> Path:
        """Where a file can be read on this host: itself in a folder, else a copy, which is made anew where the file has changed.

        Raises FileNotFoundError.
        """
        if self.is_folder:
            path = Path(self.root) / name
            if not path.is_file():
                raise FileNotFoundError(f"there is no {name} in {self.root}")
            return path
        place = self._place(name)
        with self._client() as client:
            mark = hashlib.sha256(f"{name} {client.ukey(place)}".encode()).hexdigest()[:32]
            copy = self._scratch() / mark
            if not copy.is_file():
                with self._part() as part:
                    client.get_file(place, part)
                    os.replace(part, copy)
        return copy

    @contextlib.contextmanager
    def begin(self) -> Iterator["Begun"]:
        """A file whose name is not known before it is written; what is not kept by then is gone at the end."""
        with self._part() as part, open(part, "wb") as file:
            yield Begun(self, Path(part), file)

    @contextlib.contextmanager
    def write(self, name: str) -> Iterator[IO[bytes]]:
        """A file to write into: it is there under its name once all of it is written, and not at all where that fails."""
        with self.begin() as begun:
            yield begun.file
            begun.keep(name)

    def put(self, part: Path, name: str) -> None:
        """Move a file of this host here, in place of any older one."""
        if self.is_folder:
            os.replace(part, Path(self.root) / name)
        else:
            with self._client() as client:
                client.put_file(str(part), self._place(name))

    def spool(self) -> IO[bytes]:
        """A file without a name on this host, which is gone once it is closed."""
        return tempfile.TemporaryFile(dir=self._scratch())

    def use(self, name: str) -> None:
        """Note that a file was used just now; an object store goes by when it was written."""
        if self.is_folder:
            with contextlib.suppress(OSError):
                os.utime(Path(self.root) / name)

    def remove(self, name: str) -> None:
        """Forget a file; nothing where there is none."""
        with contextlib.suppress(FileNotFoundError):
            if self.is_folder:
                (Path(self.root) / name).unlink()
            else:
                with self._client() as client:
                    client.rm_file(self._place(name))

    def names(self) -> list[Kept]:
        """All files that are whole, in no order."""
        if self.is_folder:
            found = []
            with contextlib.suppress(FileNotFoundError), os.scandir(self.root) as entries:
                for entry in entries:
                    # Another process may let it go meanwhile.
                    with contextlib.suppress(FileNotFoundError):
                        if entry.is_file() and not entry.name.endswith(PART):
                            stat = entry.stat()
                            found.append(Kept(entry.name, stat.st_size, stat.st_mtime))
            return found
        with contextlib.suppress(FileNotFoundError), self._client() as client:
            rows = client.ls(self._place(""), detail=True, refresh=True)
            return [
                # What a listing says of it saves a call for each.
                Kept(
                    r["name"].rsplit("/", 1)[-1],
                    int(r["size"]),
                    (r.get("LastModified") or client.modified(r["name"])).timestamp(),
                )
                for r in rows
                if r["type"] == "file" and not r["name"].endswith("/")
            ]
        return []

    def trim(self, most_bytes: int, *, spared: int = 0) -> None:
        """Let the files that were used longest ago go until all fit; so many of the newest stay in any case."""
        found = sorted(self.names(), key=lambda kept: kept.used_at)
        total = sum(kept.size for kept in found)
        for kept in found[: len(found) - spared]:
            if total <= most_bytes:
                break
            with contextlib.suppress(OSError):
                self.remove(kept.name)
            total -= kept.size

    def sweep(self, *, parts_before: float, copies_before: float) -> None:
        """Remove what was begun and left before a moment, and copies that were made before another; seconds since 1970."""
        for path in self._scratch().iterdir():
            is_part = path.name.endswith(PART)
            if is_part or not self.is_folder:
                with contextlib.suppress(OSError):
                    if path.is_file() and path.stat().st_mtime < (parts_before if is_part else copies_before):
                        path.unlink()

    def clear(self) -> None:
        """Remove every file."""
        for kept in self.names():
            self.remove(kept.name)
        if not self.is_folder:
            shutil.rmtree(self._scratch(), ignore_errors=True)

    def check(self) -> None:
        """Write, read and remove a file. Raises OSError that says what is wrong with the place."""
        name = f"check-{os.getpid()}"
        with self.write(name) as file:
            file.write(b"watchtide")
        if self.path(name).read_bytes() != b"watchtide":
            raise OSError(f"{self.root} does not give back what was written")
        self.remove(name)

    def _place(self, name: str) -> str:
        return f"{self.root.rstrip('/')}/{name}"

    @contextlib.contextmanager
    def _client(self) -> Iterator[Any]:
        """fsspec's client, one a process for the same place. Raises OSError for whatever the place has against it."""
        import fsspec

        protocol = self.root.partition("://")[0]
        try:
            # Listings are not kept: another host writes too.
            yield fsspec.filesystem(protocol, use_listings_cache=False, **dict(self.options))
        except OSError:
            raise
        except ImportError as error:
            raise OSError(f"{protocol}:// needs a package that is missing: {error}") from error
        except Exception as error:
            # Clients of object stores have kinds of their own, for an address nobody answers at and for a key that is missing.
            raise OSError(f"{self.root}: {error}") from error

    def _scratch(self) -> Path:
        """The folder of this host where files are put together."""
        if not self.is_folder and not self.copies:
            raise OSError(f"{self.root} needs a folder on this host for copies")
        folder = Path(self.root if self.is_folder else self.copies)
        # What lies here is nobody else's on this machine.
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        return folder

    @contextlib.contextmanager
    def _part(self) -> Iterator[str]:
        """Name of an empty file to fill; gone at the end, unless it was moved to its place."""
        handle, part = tempfile.mkstemp(dir=self._scratch(), suffix=PART)
        os.close(handle)
        try:
            yield part
        finally:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(part)


@dataclass(frozen=True)
class Begun:
    """A file that is being written."""

    store: Store
    part: Path
    file: IO[bytes]

    def keep(self, name: str) -> None:
        """All is written: it is there under this name."""
        self.file.close()
        self.store.put(self.part, name)

"""The scores of a whole scan in one file, so that counting it reads once and flags nothing anew.

A cache: what is lost is made again from the kept stages.
"""

import contextlib
import shutil
import zipfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import IO, Any

import numpy as np
from django.conf import settings

from watchtide.core.judge.watches import ODD
from watchtide.core.scoring.curve import Scored
from watchtide.core.scoring.rows import Finding, Points, inside_any, touches
from watchtide.engine.keep import arrays
from watchtide.engine.keep.files import ERRORS
from watchtide.engine.scan import stages
from watchtide.server import storage
from watchtide.server.logbook import services as logbook
from watchtide.server.scans import services
from watchtide.server.scans.models import Scan, ScanStream

IN_FINDING, IS_ODD = 1, 2
# A share of what stages may take on disk.
SHARE = 0.25


@dataclass(frozen=True)
class Sheet:
    """One stream's signed scores (n,), NaN where not judged; which are odd, and which lie in a finding."""

    key: str
    times: Any
    z: Any
    odd: Any
    in_finding: Any

    @property
    def judged(self) -> int:
        """How many samples were."""
        return int((~np.isnan(self.z)).sum())

    def since(self, begin_ns: int) -> "Sheet":
        """The same from a moment on."""
        part = slice(int(np.searchsorted(self.times, begin_ns)), None)
        return Sheet(self.key, self.times[part], self.z[part], self.odd[part], self.in_finding[part])

    @property
    def points(self) -> Points:
        return Points(self.times, np.abs(self.z), self.in_finding)

    @property
    def scored(self) -> Scored:
        return Scored(self.key, self.times, self.z, self.odd)


class Quieting:
    """Leaves out what planned work made quiet: its findings, and its samples as if they had not been judged."""

    def __init__(self) -> None:
        self._all = logbook.quiet_spans()
        self._of: dict[str, list[tuple[int, int]]] = {}

    def spans(self, key: str) -> list[tuple[int, int]]:
        if key not in self._of:
            self._of[key] = logbook.quiet_for(key, self._all)
        return self._of[key]

    def sheet(self, s: Sheet) -> Sheet:
        spans = self.spans(s.key)
        if not spans:
            return s
        inside = inside_any(s.times, spans)
        return replace(s, z=np.where(inside, np.nan, s.z), in_finding=s.in_finding & ~inside)

    def findings(self, found: Sequence[Finding]) -> list[Finding]:
        return [f for f in found if not touches(f.start, f.end, self.spans(f.series))]


def of(s: stages.Scanned) -> Sheet:
    return Sheet(s.base.key, s.base.series.times, s.z, s.base.evidence.side == ODD, s.in_finding)


def name_of(scan: Scan) -> str:
    """Name of the file with a scan's scores."""
    return f"{scan.pk}.npz"


# A stream's scores as kept, one record a sample.
ROW = np.dtype([("time", "<i8"), ("z", "<f8"), ("marks", "u1")])


class Writer:
    """Writes the scores of streams one by one; they are kept as a scan's once all are there."""

    def __init__(self, file: IO[bytes], packed: zipfile.ZipFile) -> None:
        self._file, self._zip = file, packed

    def add(self, stream: int, sheet: Sheet) -> None:
        rows = np.empty(len(sheet.times), ROW)
        rows["time"], rows["z"] = sheet.times, sheet.z
        rows["marks"] = sheet.in_finding * IN_FINDING + sheet.odd * IS_ODD
        with self._zip.open(f"{stream}.npy", "w", force_zip64=True) as member:
            np.lib.format.write_array(member, rows, allow_pickle=False)

    def keep(self, scan: Scan) -> None:
        """Keep what was added, in place of any older scores of the scan."""
        self._zip.close()
        self._file.seek(0)
        store = storage.sheets()
        with store.write(name_of(scan)) as file:
            shutil.copyfileobj(self._file, file)
        store.trim(int(SHARE * settings.STAGE_CACHE_BYTES), spared=1)


@contextlib.contextmanager
def writing() -> Iterator[Writer]:
    """A writer into a file without a name: of a scan that is killed on the way nothing stays."""
    # A zip of arrays, as NumPy's own are, but not all of them have to be in memory at once.
    with storage.sheets().spool() as file, zipfile.ZipFile(file, "w") as packed:
        yield Writer(file, packed)


def keep(scan: Scan, sheets: Iterable[tuple[int, Sheet]]) -> None:
    """Keep the scores of all streams of a scan, by their numbers."""
    with writing() as file:
        for stream, sheet in sheets:
            file.add(stream, sheet)
        file.keep(scan)


def of_scan(
    scan: Scan, rows: Sequence[ScanStream], progress: Callable[[int, int], None] | None = None
) -> list[Sheet]:
    """The scores of these streams of a scan, in their order; made anew, and kept, where the file is lost."""
    known = _load(scan)
    if known is None or any(r.stream_id not in known for r in rows):
        known = {}
        every = list(scan.streams.select_related("stream", "scan__plan_version"))
        for i, row in enumerate(every):
            known[row.stream_id] = of(services.rescan(row))
            if progress is not None:
                progress(i + 1, len(every))
        keep(scan, known.items())
    return [replace(known[r.stream_id], key=r.stream.key) for r in rows]


def _load(scan: Scan) -> dict[int, Sheet] | None:
    store, out = storage.sheets(), {}
    try:
        with zipfile.ZipFile(store.path(name_of(scan))) as file:
            for name in file.namelist():
                with file.open(name) as member:
                    rows = arrays.read_array(member)
                marks = rows["marks"]
                stream = int(name.removesuffix(".npy"))
                out[stream] = Sheet(
                    "", rows["time"].copy(), rows["z"].copy(), (marks & IS_ODD) > 0, (marks & IN_FINDING) > 0
                )
    except (*ERRORS, IndexError, zipfile.BadZipFile, EOFError):
        return None
    store.use(name_of(scan))
    return out

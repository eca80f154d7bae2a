"""The scores of a whole scan in one file, so that counting it reads once and flags nothing anew.

A cache: what is lost is made again from the kept stages.
"""

import contextlib
import shutil
import zipfile
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import IO, Any

import numpy as np
from cachetools import LRUCache
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
# Of scores in memory while they are counted.
MOST_KEPT_BYTES = 128 << 20
# What reading a file that is lost, cut off or altered raises.
DAMAGES = (*ERRORS, IndexError, zipfile.BadZipFile, EOFError, zlib.error)


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


def points_of(sheet: Sheet) -> Points:
    return sheet.points


def scored_of(sheet: Sheet) -> Scored:
    return sheet.scored


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


class Sheets(Mapping[str, Sheet]):
    """The scores of some streams of a scan, by their keys in the order given. Each is read on access, so that
    counting takes no more memory for more streams; of few streams all stay in memory. What is lost is made anew, and kept.
    """

    def __init__(
        self, scan: Scan, rows: Sequence[ScanStream], progress: Callable[[int, int], None] | None = None
    ) -> None:
        self._scan, self._progress = scan, progress
        self._streams = {r.stream.key: r.stream_id for r in rows}
        file = _opened(scan)
        self._file = file if file is not None and self._is_whole(file) else self._renewed()
        self._kept: LRUCache[str, Sheet] = LRUCache(MOST_KEPT_BYTES, getsizeof=_bytes_of)

    def __getitem__(self, key: str) -> Sheet:
        sheet = self._kept.get(key)
        if sheet is None:
            sheet = self._read(key)
            # One that is larger than all that may be kept is read each time.
            with contextlib.suppress(ValueError):
                self._kept[key] = sheet
        return sheet

    def __iter__(self) -> Iterator[str]:
        return iter(self._streams)

    def __len__(self) -> int:
        return len(self._streams)

    def _is_whole(self, file: zipfile.ZipFile) -> bool:
        return {f"{stream}.npy" for stream in self._streams.values()} <= set(file.namelist())

    def _read(self, key: str) -> Sheet:
        stream = self._streams[key]
        try:
            return _sheet(self._file, stream, key)
        except DAMAGES:
            self._file = self._renewed()
            return _sheet(self._file, stream, key)

    def _renewed(self) -> zipfile.ZipFile:
        """The file, made anew from the kept stages."""
        every = list(self._scan.streams.select_related("stream", "scan__plan_version"))

        def made() -> Iterator[tuple[int, Sheet]]:
            for i, row in enumerate(every):
                yield row.stream_id, of(services.rescan(row))
                if self._progress is not None:
                    self._progress(i + 1, len(every))

        keep(self._scan, made())
        file = _opened(self._scan)
        if file is None:
            raise OSError(f"the scores of scan {self._scan.pk} cannot be kept; see the place for files")
        return file


def _bytes_of(sheet: Sheet) -> int:
    return int(sheet.times.nbytes + sheet.z.nbytes + sheet.odd.nbytes + sheet.in_finding.nbytes)


def _opened(scan: Scan) -> zipfile.ZipFile | None:
    """The file with a scan's scores, None where there is none that can be read."""
    store = storage.sheets()
    try:
        file = zipfile.ZipFile(store.path(name_of(scan)))
    except DAMAGES:
        return None
    store.use(name_of(scan))
    return file


def _sheet(file: zipfile.ZipFile, stream: int, key: str) -> Sheet:
    with file.open(f"{stream}.npy") as member:
        rows = arrays.read_array(member)
    marks = rows["marks"]
    times, z = rows["time"].copy(), rows["z"].copy()
    return Sheet(key, times, z, (marks & IS_ODD) > 0, (marks & IN_FINDING) > 0)

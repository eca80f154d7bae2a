"""Arrays kept in files: written beside JSON into a zip, and read one at a time, whichever thread wants them."""

import io
import json
import threading
import zipfile
from collections.abc import Mapping
from os import PathLike
from typing import IO, Any

import numpy as np

# Before 3.11.8 Python keeps the depth of its parser in one place for all threads (gh-106905); NumPy reads each array's header
# with that parser, and two at once raise SystemError now and then. It is Debian 12's Python.
_one_at_a_time = threading.Lock()


# Every part has the same stamp: the same content is the same bytes.
STAMP = (2026, 1, 1, 0, 0, 0)


def zipped(
    name: str,
    head: Any,
    arrays: Mapping[str, np.ndarray],
    files: Mapping[str, bytes] | None = None,
    level: int | None = None,
) -> bytes:
    """A zip of JSON under a name, arrays in NumPy's own form (`….npy`), and files as they are. level : of compression."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=level) as file:

        def put(part: str, body: bytes) -> None:
            file.writestr(zipfile.ZipInfo(part, STAMP), body, zipfile.ZIP_DEFLATED, level)

        put(name, json.dumps(head).encode())
        for key, values in arrays.items():
            packed = io.BytesIO()
            np.lib.format.write_array(packed, values, allow_pickle=False)
            put(f"{key}.npy", packed.getvalue())
        for key, body in (files or {}).items():
            put(key, body)
    return out.getvalue()


def load(source: str | PathLike[str] | IO[bytes]) -> dict[str, Any]:
    """All arrays of an .npz file, by name. Raises what numpy.load does."""
    with _one_at_a_time, np.load(source, allow_pickle=False) as kept:
        return dict(kept)


def read_array(member: IO[bytes]) -> Any:
    """One array in NumPy's own form. Raises ValueError for what is none."""
    with _one_at_a_time:
        return np.lib.format.read_array(member, allow_pickle=False)

"""Kept arrays read one at a time, whichever thread wants them."""

import threading
from os import PathLike
from typing import IO, Any

import numpy as np

# Before 3.11.8 Python keeps the depth of its parser in one place for all threads (gh-106905); NumPy reads each array's header
# with that parser, and two at once raise SystemError now and then. It is Debian 12's Python.
_one_at_a_time = threading.Lock()


def load(source: str | PathLike[str] | IO[bytes]) -> dict[str, Any]:
    """All arrays of an .npz file, by name. Raises what numpy.load does."""
    with _one_at_a_time, np.load(source, allow_pickle=False) as kept:
        return dict(kept)


def read_array(member: IO[bytes]) -> Any:
    """One array in NumPy's own form. Raises ValueError for what is none."""
    with _one_at_a_time:
        return np.lib.format.read_array(member, allow_pickle=False)

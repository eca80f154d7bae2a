"""A process that ends when the one that began it does."""

import ctypes
import signal
import sys

# Loaded here: a child that has changed its user may not be able to read Python's library.
_LIBC = ctypes.CDLL(None) if sys.platform == "linux" else None


def die_with_parent(number: int = signal.SIGTERM) -> None:
    """In a child before it starts: end by this signal when the parent does, however that ends. Linux only; elsewhere nothing."""
    if _LIBC is not None:
        _LIBC.prctl(1, number)  # PR_SET_PDEATHSIG

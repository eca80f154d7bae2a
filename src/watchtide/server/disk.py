"""Room on the disk: what comes in is refused before it is full, and everything else goes on."""

import shutil
import time
from pathlib import Path

from django.conf import settings

from watchtide.server.problems import Problem

_known: tuple[float, int] = (0.0, 0)
LOOK_EVERY_S = 1.0
# Below so many times the least there is a warning.
WARNED_AT = 4


def free_bytes() -> int:
    """Room where the data folder lies, looked at once a second at most."""
    global _known
    now = time.monotonic()
    if now - _known[0] > LOOK_EVERY_S or _known[0] == 0.0:
        _known = now, shutil.disk_usage(_folder()).free
    return _known[1]


def total_bytes() -> int:
    """Size of the disk where the data folder lies."""
    return shutil.disk_usage(_folder()).total


def _folder() -> Path:
    """The data folder, or the nearest one above that is there."""
    folder = Path(settings.DATA_FOLDER)
    while not folder.exists():
        folder = folder.parent
    return folder


def state() -> str:
    """full, nearly full or fine."""
    free, least = free_bytes(), settings.LEAST_FREE_BYTES
    return "full" if free < least else "nearly full" if free < WARNED_AT * least else "fine"


def check_room(wanted: int = 0) -> None:
    """Raise Problem (507) where taking in so many bytes would leave less than the least that is kept free."""
    if free_bytes() - wanted < settings.LEAST_FREE_BYTES:
        raise no_room()


def no_room() -> Problem:
    return Problem(
        f"the disk has {free_bytes() >> 20:,} MB left; {settings.LEAST_FREE_BYTES >> 20:,} MB are kept free",
        place="disk",
        remedy="nothing is taken in until there is room; free some, or move the data folder",
        code=507,
        retry_after=60,
    )

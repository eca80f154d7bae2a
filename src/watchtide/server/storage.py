"""Where the server's files lie: those handed in, kept stages, and the scores of scans. A folder, or an object store that all hosts see.

No record is here: what is lost of stages and scores is made again, and a file handed in is handed in again.
"""

from pathlib import Path

from django.conf import settings

from watchtide.engine.keep.files import ERRORS, Store

UPLOADS, STAGES, SHEETS = "uploads", "stages", "sheets"


def uploads() -> Store:
    return _place(UPLOADS)


def stages() -> Store:
    return _place(STAGES)


def sheets() -> Store:
    return _place(SHEETS)


def every() -> tuple[Store, ...]:
    return uploads(), stages(), sheets()


def problem() -> str | None:
    """What is wrong with the place, None where files can be kept there."""
    try:
        for place in every():
            place.check()
    except ERRORS as error:
        where = settings.FILES or settings.DATA_FOLDER
        return f"files cannot be kept in {where}: {error}; correct WATCHTIDE_FILES… or WATCHTIDE_DATA"
    return None


def _place(name: str) -> Store:
    data = Path(settings.DATA_FOLDER)
    if not settings.FILES:
        return Store(str(data / name))
    # A folder of the host is where copies are; the sizes there follow what is read.
    return Store(settings.FILES, settings.FILES_OPTIONS, str(data / "copies")).within(name)

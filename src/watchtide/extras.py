"""What only some installations have: an extra that is missing is named with the way to install it."""

from collections.abc import Iterator
from contextlib import contextmanager


class MissingExtra(ValueError):
    """A part of Watch Tide that is not installed; the message has the remedy."""


@contextmanager
def needed(extra: str, what: str) -> Iterator[None]:
    """For imports of an extra: raises MissingExtra where it is not installed. what : cannot be done without it."""
    try:
        yield
    except ModuleNotFoundError as error:
        raise MissingExtra(
            f"{what}: needs {error.name}, which is not installed here; pip install 'watchtide[{extra}]'"
        ) from error

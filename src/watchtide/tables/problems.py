"""What can be wrong with a file, told so that it can be put right."""

from dataclasses import dataclass


class TableError(ValueError):
    """A file that cannot be used at all. `place` names line, column or option; `remedy` what to do."""

    def __init__(self, file: str, place: str, message: str, remedy: str) -> None:
        self.file, self.place, self.message, self.remedy = file, place, message, remedy
        where = f"{file}, {place}" if place else file
        super().__init__(f"{where}: {message}; {remedy}")


@dataclass(frozen=True)
class BrokenRow:
    """One row set aside: its line in the file (the header is line 1), column, what is wrong, its text."""

    line: int
    column: str
    problem: str
    text: str


@dataclass(frozen=True)
class Problem:
    """One kind of trouble, with how often, where first, and what would help."""

    kind: str
    count: int
    first_line: int | None
    column: str
    message: str
    remedy: str
    sets_aside: bool

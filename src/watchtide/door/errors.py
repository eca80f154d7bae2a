"""What can be wrong with what is handed in; each names the place and the remedy."""

from watchtide.plan import PlanError
from watchtide.tables.problems import TableError

__all__ = ["InputError", "PlanError", "TableError"]


class InputError(ValueError):
    """An argument that cannot be used. place : its name; remedy : what to do."""

    def __init__(self, place: str, message: str, remedy: str) -> None:
        self.place, self.message, self.remedy = place, message, remedy
        super().__init__(f"{place}: {message}; {remedy}")

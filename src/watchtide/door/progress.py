"""Progress as somebody sees it: a bar in a terminal or a notebook, or whatever function the caller has for it."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

Progress = Callable[[int, int], None]


@contextmanager
def shown(progress: Progress | bool | None, what: str) -> Iterator[Progress | None]:
    """What to call with (done, in all): the caller's own function, a bar for True, None for False and None.

    The bar is on standard error, or beneath the cell in a notebook. It begins with the first call, so that what is printed before
    it stays above it, and ends with the block, also where that is interrupted.
    """
    if not isinstance(progress, bool):
        yield progress
        return
    if not progress:
        yield None
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, TextColumn, TimeRemainingColumn
    from rich.progress import Progress as Bar

    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    bar = Bar(*columns, console=Console(stderr=True))
    task = bar.add_task(what, total=None)

    def tell(done: int, total: int) -> None:
        bar.start()
        bar.update(task, completed=done, total=total)

    try:
        yield tell
    finally:
        bar.stop()

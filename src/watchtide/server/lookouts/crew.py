"""Whole histories of streams replayed by several processes side by side: a lookout on many streams has as many to begin with."""

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor
from concurrent.futures.process import BrokenProcessPool
from contextlib import ExitStack

from django.conf import settings

from watchtide.engine import run, watching
from watchtide.engine.watching import Step
from watchtide.server.lookouts import judging
from watchtide.server.lookouts.judging import Due, Judged, Rules
from watchtide.server.lookouts.models import Watched

# Fewer are judged by the worker itself: to start processes takes as long as to judge some hundred streams on from where they stood.
FEWEST = 200
# Histories that are read before the first of them is judged.
AHEAD = 2


class Crew:
    """The processes, from the first histories that pay for them until they are dismissed."""

    def __init__(self) -> None:
        self._stack = ExitStack()
        self._pool: Executor | None = None

    def dismiss(self) -> None:
        """End the processes, and free what they have taken."""
        self._stack.close()
        self._pool = None

    def judge(self, rows: Iterable[Watched], rules: Rules) -> Iterator[tuple[Watched, Judged]]:
        """Each row with what is to be written of it, in their order. Only the numerics are done elsewhere."""
        waiting: deque[tuple[Watched, Callable[[], Judged]]] = deque()
        for watched in rows:
            waiting.append((watched, self._begun(watched, rules)))
            if len(waiting) > AHEAD * settings.SCAN_PROCESSES:
                yield _concluded(*waiting.popleft())
        while waiting:
            yield _concluded(*waiting.popleft())

    def _begun(self, watched: Watched, rules: Rules) -> Callable[[], Judged]:
        due = judging.prepare(watched, rules)
        if isinstance(due, Judged):
            return lambda: due
        step = self._step(due, rules)
        return lambda: judging.conclude(watched, rules, due, step)

    def _step(self, due: Due, rules: Rules) -> Callable[[], Step]:
        if self._pool is None:
            self._pool = self._stack.enter_context(run.pool(settings.SCAN_PROCESSES))
        arguments = due.arguments(rules)
        try:
            future = self._pool.submit(watching.step, *arguments)
        except BrokenProcessPool:
            return lambda: self._alone(arguments)

        def step() -> Step:
            try:
                return future.result()
            except BrokenProcessPool:
                return self._alone(arguments)

        return step

    def _alone(self, arguments: tuple[object, ...]) -> Step:
        """Where a process was lost, as for want of memory: here, and by new ones next time."""
        self.dismiss()
        return watching.step(*arguments)  # type: ignore[arg-type]


def _concluded(watched: Watched, conclude: Callable[[], Judged]) -> tuple[Watched, Judged]:
    return watched, conclude()

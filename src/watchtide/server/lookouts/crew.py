"""Whole histories of streams replayed by several processes side by side: a lookout on many streams has as many to begin with."""

from collections import deque
from collections.abc import Iterable, Iterator
from concurrent.futures import Executor, Future
from concurrent.futures.process import BrokenProcessPool
from contextlib import ExitStack

from django.conf import settings

from watchtide.engine.live import watching
from watchtide.engine.live.watching import Step
from watchtide.engine.many import run
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
        waiting: deque[tuple[Watched, Judged | Due, Future[Step] | None]] = deque()
        for watched in rows:
            due = judging.prepare(watched, rules)
            waiting.append((watched, due, None if isinstance(due, Judged) else self._submit(due, rules)))
            if len(waiting) > AHEAD * settings.SCAN_PROCESSES:
                yield self._concluded(rules, *waiting.popleft())
        while waiting:
            yield self._concluded(rules, *waiting.popleft())

    def _submit(self, due: Due, rules: Rules) -> Future[Step] | None:
        """The step under way; None where a process was lost."""
        if self._pool is None:
            self._pool = self._stack.enter_context(run.pool(settings.SCAN_PROCESSES))
        try:
            return self._pool.submit(watching.step, *due.arguments(rules))
        except BrokenProcessPool:
            # Lost, as for want of memory: the next ones are judged by new processes.
            self.dismiss()
            return None

    def _concluded(
        self, rules: Rules, watched: Watched, due: Judged | Due, future: Future[Step] | None
    ) -> tuple[Watched, Judged]:
        if isinstance(due, Judged):
            return watched, due
        return watched, judging.conclude(watched, rules, due, lambda: self._result(due, rules, future))

    def _result(self, due: Due, rules: Rules, future: Future[Step] | None) -> Step:
        try:
            if future is not None:
                return future.result()
        except BrokenProcessPool:
            pass
        # Its process was lost. Those there are now may be others, with work of theirs under way.
        return watching.step(*due.arguments(rules))

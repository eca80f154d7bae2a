"""Duties: what a keeper does again and again. One that fails is tried again later, shown, and holds up no other."""

import logging
import signal
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from datetime import timedelta
from typing import Any

from django.db import Error, connection
from django.db.models.functions import Now
from structlog.contextvars import bound_contextvars

from watchtide.server import patience
from watchtide.server.jobs import beats
from watchtide.server.jobs.models import Beat
from watchtide.server.problems import Busy

log = logging.getLogger("watchtide.duties")
# The wait after a failure doubles, up to five minutes.
FIRST_WAIT_S, MOST_WAIT_S = 2.0, 300.0


@dataclass
class Duty:
    """name : as it is shown; every_s : seconds between two rounds."""

    name: str
    action: Callable[[], Any]
    every_s: float = 0.0
    due_at: float = 0.0
    failures: int = 0

    def attempt(self) -> None:
        """One round, if it is due. Whatever goes wrong stays here."""
        now = time.monotonic()
        if now < self.due_at:
            return
        self.due_at = now + self.every_s
        with bound_contextvars(duty=self.name):
            self._try(now)

    def _try(self, now: float) -> None:
        try:
            patience.fresh()
            self.action()
        except Busy:
            # Somebody else is at it: that is no failure.
            return
        except Error as error:
            if patience.is_passing(error):
                patience.log.warning("%s waits for the database: %s", self.name, error)
                patience.forget()
                self.due_at = now + max(self.every_s, FIRST_WAIT_S)
                return
            self._failed(error)
        except Exception as error:
            self._failed(error)
        else:
            if self.failures:
                self.failures = 0
                Beat.objects.filter(name=self.name).delete()

    def _failed(self, error: Exception) -> None:
        self.failures += 1
        wait = min(FIRST_WAIT_S * 2 ** min(self.failures - 1, 12), MOST_WAIT_S)
        self.due_at = time.monotonic() + max(wait, self.every_s)
        log.error("%s failed, next try in %.0f s", self.name, wait, exc_info=error)
        words = f"{type(error).__name__}: {error}"[:500]
        patience.forget()
        try:
            beats.beat(
                self.name,
                is_process=False,
                failures=self.failures,
                message=words,
                next_at=Now() + timedelta(seconds=wait),
            )
        except Error as away:
            log.warning("the failure of %s could not be kept: %s", self.name, away)


def keep(name: str, duties: list[Duty], *, pause_s: float) -> None:
    """Do duties in turn until the process is stopped; the one at work is finished first."""
    stopped = threading.Event()
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda *_: stopped.set())
    with beats.Beating(name):
        while not stopped.is_set():
            for duty in duties:
                if not stopped.is_set():
                    duty.attempt()
            connection.close()
            stopped.wait(pause_s)

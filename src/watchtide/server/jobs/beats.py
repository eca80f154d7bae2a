"""Signs of life: every worker and keeper writes every few seconds that it is there, so that a dead one shows."""

import logging
import threading
from datetime import timedelta
from typing import Any

from django.db import Error, connection
from django.db.models.functions import Now

from watchtide.server import patience
from watchtide.server.jobs.models import Beat

EVERY_S = 3.0
# A process whose last beat is older is dead or hangs.
LOST = timedelta(seconds=20)
log = logging.getLogger("watchtide.beats")


class Beating:
    """A thread that beats until the block ends or the process does."""

    def __init__(self, name: str) -> None:
        self.name = name
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="beats", daemon=True)

    def __enter__(self) -> "Beating":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._stop.set()
        self._thread.join(2 * EVERY_S)

    def _run(self) -> None:
        while True:
            try:
                beat(self.name)
            except Error as error:
                if not patience.is_passing(error):
                    log.warning("no beat of %s: %s", self.name, error)
            finally:
                connection.close()
            if self._stop.wait(EVERY_S):
                break
        # Who ends in order is not missed.
        try:
            Beat.objects.filter(name=self.name).delete()
        except Error as error:
            log.warning("%s did not sign off: %s", self.name, error)
        finally:
            connection.close()


def beat(name: str, **facts: Any) -> None:
    Beat.objects.update_or_create(name=name, defaults={"beat_at": Now(), **facts})


def lost() -> list[str]:
    """Names of processes that should be running and whose last beat is too old."""
    return list(
        Beat.objects.filter(is_process=True, beat_at__lt=Now() - LOST)
        .order_by("name")
        .values_list("name", flat=True)
    )


def failing() -> list[dict[str, Any]]:
    """Duties whose last round failed: name, message, failures in a row."""
    rows = Beat.objects.filter(failures__gt=0).order_by("name")
    return list(rows.values("name", "message", "failures"))

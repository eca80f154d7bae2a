"""How much one sender may push in a minute, whichever process takes it; what goes beyond is refused until later.

The allowance is in the database, by its clock. A process takes a part of it at a time and counts that by itself, so that most pushes cost
no statement, and all processes together let through no more than one would.
"""

import threading
import time
from dataclasses import dataclass, field

from django.conf import settings
from django.db import connection, transaction

from watchtide.server import patience
from watchtide.server.problems import Problem

# A twentieth of what a minute allows is taken at a time, and is void after a minute.
PARTS, VOID_AFTER_S = 20, 60.0
MOST_KEPT = 10_000


@dataclass
class _Part:
    left: float
    since: float


@dataclass
class Allowances:
    """What one process has taken of the allowances of senders."""

    _parts: dict[tuple[str, str], _Part] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def count(self, who: str, *, requests: int = 0, points: int = 0) -> None:
        """Count against a sender's minute. Raises Problem with 429 and Retry-After where it is used up.

        Each limit is a bucket that fills evenly within a minute, so that a burst of as much as in a whole minute is let through.
        """
        for what, amount, most in (
            ("pushes", requests, settings.PUSHES_A_MINUTE),
            ("points", points, settings.POINTS_A_MINUTE),
        ):
            if amount and (wait := self._take(who, what, amount, most)):
                raise Problem(
                    f"more than {most:,} {what} a minute", place=who, remedy=f"wait {wait} s and send again", code=429,
                    retry_after=wait,
                )  # fmt: skip

    def clear(self) -> None:
        with self._lock:
            self._parts.clear()

    def _take(self, who: str, what: str, amount: int, most: int) -> int:
        """Seconds to wait, 0 when there is room."""
        now = time.monotonic()
        # What is larger than the limit by itself goes through a full bucket, or it never would.
        wanted = min(amount, most)
        with self._lock:
            if len(self._parts) > MOST_KEPT:
                self._parts.clear()
            part = self._parts.get((who, what))
            if part is not None and now - part.since < VOID_AFTER_S and part.left >= wanted:
                part.left -= wanted
                return 0
        granted, wait = _grant(who, what, wanted, most)
        if granted:
            with self._lock:
                kept = self._parts.setdefault((who, what), _Part(0.0, now))
                if now - kept.since >= VOID_AFTER_S:
                    kept.left = 0.0
                kept.left, kept.since = kept.left + granted - wanted, now
        return wait


own = Allowances()


@patience.retried
def _grant(who: str, what: str, wanted: int, most: int) -> tuple[float, int]:
    """What is taken of a sender's bucket, at least what is wanted, and 0; or nothing, and the seconds until there is as much."""
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(
            "INSERT INTO push_allowance (who, what, `left`, at) VALUES (%s, %s, %s, UTC_TIMESTAMP(6))"
            # As full as it has become since; the row is locked from here on.
            " ON DUPLICATE KEY UPDATE `left` = LEAST(%s, `left` + GREATEST(TIMESTAMPDIFF(MICROSECOND, at, UTC_TIMESTAMP(6)), 0) * %s / 60e6),"
            " at = UTC_TIMESTAMP(6)",
            [who, what, most, most, most],
        )
        cursor.execute("SELECT `left` FROM push_allowance WHERE who = %s AND what = %s", [who, what])
        left = float(cursor.fetchone()[0])
        if left < wanted:
            return 0.0, max(1, round((wanted - left) * 60 / most + 0.5))
        granted = min(max(wanted, most / PARTS), left)
        cursor.execute(
            "UPDATE push_allowance SET `left` = `left` - %s WHERE who = %s AND what = %s",
            [granted, who, what],
        )
        return granted, 0


def count(who: str, *, requests: int = 0, points: int = 0) -> None:
    """As `Allowances.count`, of this process."""
    own.count(who, requests=requests, points=points)


def clear() -> None:
    """Forget what this process has taken, and what is left in the database."""
    own.clear()
    with connection.cursor() as cursor:
        cursor.execute("DELETE FROM push_allowance")

"""How much one sender may push in a minute; what goes beyond is told to wait."""

import threading
import time
from dataclasses import dataclass

from django.conf import settings

from watchtide.server.problems import Problem


@dataclass
class _Bucket:
    left: float
    at: float


_lock = threading.Lock()
_buckets: dict[tuple[str, str], _Bucket] = {}


def count(who: str, *, requests: int = 0, points: int = 0) -> None:
    """Count against a sender's minute. Raises Problem with 429 and Retry-After where it is used up.

    Each limit is a bucket that fills evenly within a minute, so that a burst of a minute's worth is let through.
    """
    for what, amount, most in (
        ("pushes", requests, settings.PUSHES_A_MINUTE),
        ("points", points, settings.POINTS_A_MINUTE),
    ):
        if amount and (wait := _take(who, what, amount, most)):
            raise Problem(
                f"more than {most:,} {what} a minute", place=who, remedy=f"wait {wait} s and send again", code=429,
                retry_after=wait,
            )  # fmt: skip


def _take(who: str, what: str, amount: int, most: int) -> int:
    """Seconds to wait, 0 when there is room."""
    now = time.monotonic()
    with _lock:
        if len(_buckets) > 10_000:
            _buckets.clear()
        bucket = _buckets.setdefault((who, what), _Bucket(float(most), now))
        bucket.left = min(float(most), bucket.left + (now - bucket.at) * most / 60)
        bucket.at = now
        # What is larger than the limit by itself goes through a full bucket, or it never would.
        if bucket.left >= min(amount, most):
            bucket.left -= amount
            return 0
        return max(1, round((min(amount, most) - bucket.left) * 60 / most + 0.5))


def clear() -> None:
    with _lock:
        _buckets.clear()

"""Time: by the database's clock, which all hosts share, since theirs may differ or step; and as answers write it."""

from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
from django.db import connection

from watchtide.core.series import Ints

EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def now() -> datetime:
    with connection.cursor() as cursor:
        cursor.execute("SELECT UTC_TIMESTAMP(6)")
        return cursor.fetchone()[0].replace(tzinfo=UTC)


def now_ns() -> int:
    """The same in nanoseconds since 1970."""
    return ns_of(now())


def ns_of(moment: datetime) -> int:
    """Nanoseconds since 1970 of a time as rows have it."""
    return int((moment - EPOCH) / timedelta(microseconds=1)) * 1_000


def local(ns: int, zone: str) -> datetime:
    """A time on the clock of a zone."""
    return (EPOCH + timedelta(microseconds=ns // 1_000)).astimezone(ZoneInfo(zone))


def spoken(ns: int, zone: str) -> str:
    """A time as mails and notices write it, on the clock of a zone."""
    return f"{local(ns, zone):%a %-d %b %Y, %H:%M %Z}"


def at(ns: int | None) -> np.datetime64 | None:
    """A time in nanoseconds since 1970, so that an answer writes it in ISO 8601 and not as a number."""
    return None if ns is None else np.datetime64(int(ns), "ns")


def ns(moment: np.datetime64) -> int:
    """Nanoseconds since 1970 of what `at` gave."""
    return int(np.datetime64(moment, "ns").astype(np.int64))


def each(times: Ints) -> Any:
    """(n,) the same for an array."""
    return times.astype("datetime64[ns]")

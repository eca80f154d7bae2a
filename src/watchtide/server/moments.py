"""Time: by the database's clock, which all hosts share, since theirs may differ or step; and the page's unit."""

from datetime import UTC, datetime

from django.db import connection

# Nanoseconds of a millisecond: charts count in these.
MS = 1_000_000


def now() -> datetime:
    with connection.cursor() as cursor:
        cursor.execute("SELECT UTC_TIMESTAMP(6)")
        return cursor.fetchone()[0].replace(tzinfo=UTC)

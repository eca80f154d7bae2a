"""The time by the database's clock, which all hosts share: theirs may differ, or step."""

from datetime import UTC, datetime

from django.db import connection


def now() -> datetime:
    with connection.cursor() as cursor:
        cursor.execute("SELECT UTC_TIMESTAMP(6)")
        return cursor.fetchone()[0].replace(tzinfo=UTC)

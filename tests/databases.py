"""Databases of tests that start processes: made empty, and dropped at the end."""

import os
from collections.abc import Iterator
from contextlib import contextmanager

import pytest


def secret():
    """How to reach the MariaDB of this run."""
    if not os.environ.get("WATCHTIDE_DB_SOCKET"):
        pytest.skip("needs its own MariaDB: ./run test")
    return {
        "unix_socket": os.environ["WATCHTIDE_DB_SOCKET"],
        "user": os.environ["WATCHTIDE_DB_USER"],
        "passwd": os.environ["WATCHTIDE_DB_PASSWORD"],
    }


@contextmanager
def empty(name: str) -> Iterator[dict[str, str]]:
    """The environment of a process that is to use an empty database of this name."""
    import MySQLdb

    connection = MySQLdb.connect(**secret())
    connection.cursor().execute(f"DROP DATABASE IF EXISTS {name}")
    connection.cursor().execute(f"CREATE DATABASE {name} COLLATE utf8mb4_bin")
    try:
        yield {**os.environ, "WATCHTIDE_DB_NAME": name}
    finally:
        connection.cursor().execute(f"DROP DATABASE {name}")
        connection.close()

"""What to do when the database is away for a moment, or somebody else holds a lock.

A deadlock or a lock wait that times out rolls back one transaction: that one is repeated. While the database is away or restarts,
background processes wait, and a caller gets the time after which to try again.
"""

import contextlib
import errno
import functools
import logging
import re
from collections.abc import Callable
from typing import ParamSpec, TypeVar

import MySQLdb
from django.db import (
    Error,
    InterfaceError,
    OperationalError,
    ProgrammingError,
    close_old_connections,
    connection,
)
from tenacity import (
    RetryCallState,
    Retrying,
    retry_if_exception,
    stop_after_attempt,
    stop_before_delay,
    wait_exponential,
    wait_random_exponential,
)

log = logging.getLogger("watchtide.database")
P = ParamSpec("P")
R = TypeVar("R")

# Lock wait timeout, deadlock, and a row changed since it was read.
LOCKED = (1205, 1213, 1020)
# The server is shutting down, cannot be reached, has gone, was lost; has too many connections, or kills this one.
AWAY = (1053, 1040, 1203, 1317, 1927, 2002, 2003, 2006, 2013, 2026, 2055)
# The disk under the database is full.
FULL = (1021, 1114)
# The storage engine or a file failed; the system's number stands in the text.
WITH_ERRNO = (3, 1026, 1030)
_ENOSPC = re.compile(r"\b(?:errno: |error )28\b")
TRIES = 6
RETRY_LOCKED_S, RETRY_AWAY_S = 1, 5


def code_of(error: BaseException) -> int | None:
    """MariaDB's number of an error, wherever in the chain of causes it stands."""
    seen: BaseException | None = error
    while seen is not None:
        is_of_database = isinstance(seen, Error) or type(seen).__module__.startswith("MySQLdb")
        if is_of_database and seen.args and isinstance(seen.args[0], int):
            return seen.args[0]
        seen = seen.__cause__
    return None


def is_locked(error: BaseException) -> bool:
    return (isinstance(error, Error) and code_of(error) in LOCKED) or is_taken(error)


def is_taken(error: BaseException) -> bool:
    """Whether another thread had the connection for a moment: the collector of garbage, which frees a result of it in whatever thread
    it runs. mysqlclient 2.3 refuses any call meanwhile."""
    # The driver's error passes Django by where a cursor is closed.
    is_one = isinstance(error, ProgrammingError | MySQLdb.ProgrammingError)
    return is_one and "already in use from another thread" in str(error)


def is_away(error: BaseException) -> bool:
    """Whether the database does not answer; a connection that is closed under us says so without a number."""
    return isinstance(error, InterfaceError) or (
        isinstance(error, OperationalError) and code_of(error) in AWAY
    )


def is_full(error: BaseException) -> bool:
    """Whether a disk is full: the database's, reported by its error number or the system's, or ours."""
    if isinstance(error, OSError):
        return error.errno in (errno.ENOSPC, errno.EDQUOT)
    if not isinstance(error, Error):
        return False
    return code_of(error) in FULL or (code_of(error) in WITH_ERRNO and _ENOSPC.search(str(error)) is not None)


def is_passing(error: BaseException) -> bool:
    return is_locked(error) or is_away(error)


def retried(function: Callable[P, R]) -> Callable[P, R]:
    """Make a transaction again when it met a deadlock or a lock; inside another transaction the error goes on to that one."""

    @functools.wraps(function)
    def call(*args: P.args, **kwargs: P.kwargs) -> R:
        again = Retrying(
            stop=stop_after_attempt(TRIES),
            # At different times, or both would meet again.
            wait=wait_random_exponential(multiplier=0.02, max=2.0),
            retry=retry_if_exception(lambda error: is_locked(error) and not connection.in_atomic_block),
            reraise=True,
        )
        return again(function, *args, **kwargs)

    return call


def outlasting(function: Callable[[], R], what: str, *, wait_s: float = 60.0) -> R:
    """Call until the database answers, for a minute at most; what : named in the log while it does not."""

    def waiting(state: RetryCallState) -> None:
        error = state.outcome.exception() if state.outcome is not None else None
        log.warning("%s waits for the database: %s", what, error)
        forget()

    again = Retrying(
        stop=stop_before_delay(wait_s),
        wait=wait_exponential(multiplier=0.1, max=2.0),
        retry=retry_if_exception(is_passing),
        before_sleep=waiting,
        reraise=True,
    )
    return again(function)


def fresh() -> None:
    """Drop a connection that has served its time or broken, as Django does between requests."""
    if not connection.in_atomic_block:
        close_old_connections()


def forget() -> None:
    """Drop a connection that may be dead, so that the next query opens another."""
    if not connection.in_atomic_block:
        # One that another thread has is dropped all the same.
        with contextlib.suppress(ProgrammingError, MySQLdb.ProgrammingError):
            connection.close()

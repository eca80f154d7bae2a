"""Processes that work alongside this one on the same database.

Imports nothing of Django before it is set up: a process that was just begun reads this first.
"""

import os
import socket
from collections.abc import Callable
from functools import partial
from typing import Any

from watchtide.engine.many.clusters import ClusterError


def ready() -> Callable[[], None]:
    """What makes a process that is about to begin one of this server's, on the database that this one uses."""
    from django.db import connection

    return partial(_join, os.environ["DJANGO_SETTINGS_MODULE"], dict(connection.settings_dict))


def check_joined() -> None:
    """What a worker of a cluster does first for a server. Raises ClusterError where it has no database."""
    from django.apps import apps

    if not apps.ready:
        raise ClusterError(
            f"a worker on {socket.gethostname()} knows no database; start it with watchtide cluster work --server and the server's settings"
        )


def _join(module: str, database: dict[str, Any]) -> None:
    os.environ["DJANGO_SETTINGS_MODULE"] = module
    import django
    from django.db import connections

    django.setup()
    connections["default"].settings_dict.update(database)

"""Serve pages and the API, once everything is fit for it."""

from typing import Any

import uvicorn
from django.conf import settings
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from watchtide.server import config, storage
from watchtide.server.people import services

# How long open requests may go on after SIGTERM.
GRACE_S = 5


class Command(BaseCommand):
    help = "Serve pages and the API."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument(
            "--host", default="127.0.0.1", help="the address to listen on; put TLS in front of it"
        )
        parser.add_argument("--port", type=int, default=8400)

    def handle(self, *args: Any, **options: Any) -> None:
        if problem := unfit():
            raise CommandError(problem, returncode=2)
        uvicorn.run(
            "watchtide.server.asgi:application",
            host=options["host"],
            port=options["port"],
            # Our own lines say more; a proxy's word is taken in addresses.py, or not.
            log_config=None,
            access_log=False,
            server_header=False,
            proxy_headers=False,
            timeout_graceful_shutdown=GRACE_S,
        )


def unfit() -> str | None:
    """Why this must not serve, if it must not."""
    executor = MigrationExecutor(connection)
    if executor.migration_plan(executor.loader.graph.leaf_nodes()):
        return "the database is of an older version; run `watchtide server run migrate` first"
    if (wrong := storage.problem()) is not None:
        return wrong
    if settings.IS_DEMO:
        return None
    if not config.is_secret_enough(config.load()):
        return config.no_secret()
    return services.DEMO_PASSWORD if services.has_demo_password() else None

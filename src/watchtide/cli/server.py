"""The only door from the command line to the server."""

import os
import sys

from watchtide.extras import needed


def find() -> bool:
    """State the server's settings and the own instance's database to what is started from here; whether a database is known.

    Exit status 2 where a setting cannot stand.
    """
    with needed("server", "the server"):
        from watchtide.server import config, instance

    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")
    try:
        instance.find(config.load())
    except config.ConfigError as error:
        print(f"watchtide: {error}", file=sys.stderr)
        raise SystemExit(2) from None
    return bool(os.environ.get("WATCHTIDE_DB_SOCKET") or os.environ.get("WATCHTIDE_DB_HOST"))


def start(port: int, host: str, *, is_demo: bool) -> None:
    """Become the process that starts the server's others and watches over them."""
    with needed("server", "the server"):
        from watchtide.server import supervise

    where = ["demo"] if is_demo else ["serve", "--host", host]
    command = [sys.executable, "-m", supervise.__name__, *where, "--port", str(port)]
    os.execv(command[0], command)


def run(arguments: list[str]) -> None:
    """Run a management command of the server."""
    find()
    with needed("server", "the server"):
        from django.core.management import execute_from_command_line

    execute_from_command_line([sys.argv[0], *(arguments or ["help"])])

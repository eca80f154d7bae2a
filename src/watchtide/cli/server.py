"""The only door from the command line to the server."""

import os
import sys


def run(arguments: list[str]) -> None:
    """Run a management command of the server; exit status 2 where a setting cannot stand."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")
    from django.core.management import execute_from_command_line

    from watchtide.server import config, instance

    try:
        instance.find(config.load())
    except config.ConfigError as error:
        print(f"watchtide: {error}", file=sys.stderr)
        raise SystemExit(2) from None
    execute_from_command_line([sys.argv[0], *(arguments or ["help"])])

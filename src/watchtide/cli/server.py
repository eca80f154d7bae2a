"""The only door from the command line to the server."""

import os
import sys


def run(arguments: list[str]) -> None:
    """Run a management command of the server."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "watchtide.server.settings")
    from django.core.management import execute_from_command_line

    import watchtide.server  # noqa: F401

    execute_from_command_line([sys.argv[0], *(arguments or ["help"])])

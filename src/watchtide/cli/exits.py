"""How a command ends that cannot be done."""

import sys
from typing import Never

import typer


def fail(message: str) -> Never:
    """Bad usage or bad input: one message on standard error, exit status 2."""
    print(f"watchtide: {message}", file=sys.stderr)
    raise typer.Exit(2)

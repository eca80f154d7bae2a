"""Which exceptions are the user's to mend, and how they are told."""

import sys

import typer


def run(app: typer.Typer) -> None:
    """Run the application; our own errors end with one message and status 2, a closed pipe quietly."""
    try:
        app()
    except (ValueError, OSError) as error:
        if isinstance(error, BrokenPipeError):
            sys.stderr.close()
            raise SystemExit(0) from None
        # ValueError is the base of all our own errors; anything else is a defect and shows its trace.
        if type(error).__module__.startswith("watchtide") or isinstance(error, OSError):
            print(f"watchtide: {error}", file=sys.stderr)
            raise SystemExit(2) from None
        raise

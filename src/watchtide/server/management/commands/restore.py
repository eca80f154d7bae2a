"""Restore a backup, or only check that it is whole."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from watchtide.server import backup


class Command(BaseCommand):
    help = "Restore a backup into the database of the settings, which must be empty."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("folder", type=Path, help="a folder that `backup` made")
        parser.add_argument("--replace", action="store_true", help="lose what is in the database now")
        parser.add_argument("--check", action="store_true", help="only read it and compare its digests")

    def handle(self, *args: Any, **options: Any) -> None:
        folder = options["folder"]
        try:
            if options["check"]:
                manifest = backup.read(folder)
            else:
                manifest = backup.restore(folder, is_replacing=options["replace"])
        except (backup.BackupError, OSError) as error:
            raise CommandError(str(error), returncode=2) from error
        done = "is whole" if options["check"] else "is restored"
        self.stdout.write(f"{folder} of {manifest.made_at} (version {manifest.version}) {done}")

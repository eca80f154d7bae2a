"""Back up database and files while everything runs."""

from pathlib import Path
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser

from watchtide.server import backup


class Command(BaseCommand):
    help = "Write a backup into a new folder of FOLDER, and print its path. Old ones are not deleted."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("folder", type=Path)

    def handle(self, *args: Any, **options: Any) -> None:
        try:
            made, manifest = backup.make(options["folder"])
        except (backup.BackupError, OSError) as error:
            raise CommandError(str(error)) from error
        self.stdout.write(f"{made}  {manifest.size / 1e6:,.1f} MB")

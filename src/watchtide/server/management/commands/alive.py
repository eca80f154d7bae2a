"""For health checks of containers: whether the web server answers here, or a worker or keeper has given a sign of life."""

import urllib.request
from typing import Any

from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db.models.functions import Now

from watchtide.server.jobs import beats
from watchtide.server.jobs.models import Beat


class Command(BaseCommand):
    help = "Exit status 0 while it lives."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("name", help="web, or a name as /readyz gives it: worker bulk, keeper of jobs …")
        parser.add_argument("--port", type=int, default=8400, help="of web")

    def handle(self, *args: Any, **options: Any) -> None:
        name = options["name"]
        if name == "web":
            try:
                urllib.request.urlopen(f"http://127.0.0.1:{options['port']}/healthz", timeout=5).close()
            except OSError as error:
                raise CommandError(f"the web server does not answer: {error}") from error
        elif not Beat.objects.filter(name=name, is_process=True, beat_at__gte=Now() - beats.LOST).exists():
            raise CommandError(f"no sign of life of {name} for {beats.LOST.total_seconds():g} s")

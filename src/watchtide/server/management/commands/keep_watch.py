"""Wake workers for jobs that lost theirs, until told to stop."""

from typing import Any

from django.core.management.base import BaseCommand

from watchtide.server import ourselves
from watchtide.server.jobs import duties, services


class Command(BaseCommand):
    help = "Look after jobs: wake workers for those whose lease ran out, every two seconds."

    def handle(self, *args: Any, **options: Any) -> None:
        found = [
            duties.Duty("wake workers", services.watch_once),
            duties.Duty("forget old wake-ups", services.prune, every_s=600),
            duties.Duty("count what is held", ourselves.tally, every_s=60),
        ]
        duties.keep("keeper of jobs", found, pause_s=2)

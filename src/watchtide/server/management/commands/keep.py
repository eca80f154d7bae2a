"""A keeper: what jobs or streams need again and again, until it is stopped."""

import os
from typing import Any

from django.core.management.base import BaseCommand, CommandParser

from watchtide.server import ourselves
from watchtide.server.jobs import duties, services
from watchtide.server.lookouts import correcting, links, sending
from watchtide.server.lookouts import services as lookouts
from watchtide.server.looks import mornings
from watchtide.server.streams import keeping


def of_jobs() -> list[duties.Duty]:
    return [
        duties.Duty("wake workers", services.watch_once),
        duties.Duty("send notices", sending.Sending()),
        duties.Duty("look for what lookouts can judge", lookouts.look),
        duties.Duty("look for corrected history", correcting.look, every_s=30),
        duties.Duty("send looks", mornings.Mornings(), every_s=30),
        duties.Duty("forget old wake-ups", services.prune, every_s=600),
        duties.Duty("forget old links", links.prune, every_s=600),
        duties.Duty("count what is kept", ourselves.tally, every_s=60),
    ]


KEEPERS = {"jobs": (of_jobs, 1.0), "streams": (keeping.duties, 1.0)}
# Samples are read from their blocks until they are folded: what is judged by them comes first.
NICE = {"streams": 5}


class Command(BaseCommand):
    help = "Look after jobs (lost workers, queue, figures) or after streams (feeds, folding, rates and formulas, retention)."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("what", choices=KEEPERS)

    def handle(self, *args: Any, **options: Any) -> None:
        os.nice(NICE.get(options["what"], 0))
        found, pause_s = KEEPERS[options["what"]]
        duties.keep(f"keeper of {options['what']}", found(), pause_s=pause_s)

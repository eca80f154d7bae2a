"""Fetch feeds, fold live samples and renew what is made of them, until told to stop."""

from typing import Any

from django.core.management.base import BaseCommand

from watchtide.server.jobs import duties
from watchtide.server.streams import keeping


class Command(BaseCommand):
    help = "Look after streams: feeds, folding, rates and formulas, retention; a round a second."

    def handle(self, *args: Any, **options: Any) -> None:
        duties.keep("keeper of streams", keeping.duties(), pause_s=1)

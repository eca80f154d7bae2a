"""Fetch feeds, fold live samples and renew what is made of them, until told to stop."""

import time

from django.core.management.base import BaseCommand

from watchtide.server.streams.keeping import Keeper


class Command(BaseCommand):
    help = "Look after streams: feeds, folding, rates and formulas, retention; a round a second."

    def handle(self, *args, **options) -> None:
        keeper = Keeper()
        while True:
            keeper.round()
            time.sleep(1)

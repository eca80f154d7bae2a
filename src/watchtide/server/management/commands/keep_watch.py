"""Wake workers for jobs that lost theirs, until told to stop."""

import time

from django.core.management.base import BaseCommand
from django.db import close_old_connections

from watchtide.server.jobs import services


class Command(BaseCommand):
    help = "Look after jobs: wake workers for those whose lease ran out, every two seconds."

    def handle(self, *args, **options) -> None:
        while True:
            close_old_connections()
            services.watch_once()
            time.sleep(2)

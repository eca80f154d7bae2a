"""Do jobs of one lane until stopped; wait while the database is away."""

import os
import signal
import socket
import threading
import time
from types import FrameType
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser
from django.db import Error, connection
from django_tasks_db.management.commands.db_worker import Worker

from watchtide.server import patience
from watchtide.server.jobs import beats, services

# A job that does not look up is taken from its worker after this, still in time before a supervisor kills it.
GRACE_S = 6.0
# Nobody waits for what is done in bulk: where the machine is busy, judging and answers come first.
NICE = {"bulk": 10}


class Patient(Worker):
    """The queue's worker; it hands its job back when it is stopped, and waits while the database is away."""

    def run(self) -> None:
        while self.running:
            try:
                super().run()
            except Error as error:
                if not patience.is_passing(error):
                    raise
                patience.log.warning("worker %s waits for the database: %s", self.worker_id, error)
                connection.close()
                time.sleep(1)

    def shutdown(self, signum: int, frame: FrameType | None) -> None:
        self.running = False
        services.ending.set()
        if not self.running_task:
            raise SystemExit(0)
        threading.Thread(target=_leave, daemon=True).start()


def _leave() -> None:
    """Hand back what does not look up in time, and end."""
    time.sleep(GRACE_S)
    for lease in list(services.held):
        try:
            services.hand_back(lease, "handed back: its worker was stopped before the job looked up")
        except Error as error:
            patience.log.warning("job %s could not be handed back: %s", lease.job.pk, error)
    os._exit(0)


class Command(BaseCommand):
    help = "Do jobs of one lane until stopped."

    def add_arguments(self, parser: CommandParser) -> None:
        parser.add_argument("lane", choices=settings.LANES)
        parser.add_argument(
            "--interval", type=float, default=0.25, help="seconds between two looks into the queue"
        )
        parser.add_argument("--name", default="", help="where several work on one lane")

    def handle(self, *args: Any, **options: Any) -> None:
        os.nice(NICE.get(options["lane"], 0))
        name = options["name"] or f"worker {options['lane']}"
        worker = Patient(
            queue_names=[options["lane"]], interval=options["interval"], batch=False, backend_name="default",
            startup_delay=False, max_tasks=None, worker_id=f"{socket.gethostname()[:30]}-{os.getpid()}",
            excluded_queue_names=[],
        )  # fmt: skip
        signal.signal(signal.SIGINT, worker.shutdown)
        signal.signal(signal.SIGTERM, worker.shutdown)
        with beats.Beating(name):
            worker.run()

"""What the queue runs: nothing but waking up for a job."""

import time

from django_tasks import task

from watchtide.server.jobs import running

# After a job was left to another worker, until somebody looks at it again.
LEAVE_S = 0.2


@task(queue_name="interactive")
def work(job_id: int) -> None:
    if lane := running.lane_of_anothers(job_id):
        time.sleep(LEAVE_S)
        work.using(queue_name=lane).enqueue(job_id)
        return
    running.run(job_id)

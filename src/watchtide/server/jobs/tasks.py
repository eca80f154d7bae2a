"""What the queue runs: nothing but waking up for a job."""

from django_tasks import task

from watchtide.server.jobs import running


@task(queue_name="interactive")
def work(job_id: int) -> None:
    running.run(job_id)

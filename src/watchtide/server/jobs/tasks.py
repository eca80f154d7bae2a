"""What the queue runs: nothing but waking up for a job."""

from django_tasks import task


@task(queue_name="interactive")
def work(job_id: int) -> None:
    from watchtide.server.jobs import services

    services.run(job_id)

from django.apps import AppConfig


class JobsConfig(AppConfig):
    name = "watchtide.server.jobs"
    label = "jobs"

    def ready(self) -> None:
        # Each noun's tasks module registers what it does.
        import watchtide.server.cards.counting
        import watchtide.server.cards.effects
        import watchtide.server.logbook.tasks
        import watchtide.server.lookouts.correcting
        import watchtide.server.lookouts.tasks
        import watchtide.server.review.tasks
        import watchtide.server.scans.tasks
        import watchtide.server.streams.looking
        import watchtide.server.streams.tasks  # noqa: F401

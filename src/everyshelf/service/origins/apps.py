"""The Django app."""

from django.apps import AppConfig


class OriginsConfig(AppConfig):
    """Who last set each part of an artifact."""

    name = "everyshelf.service.origins"
    label = "origins"

    def ready(self) -> None:
        """Have the steps of each commit kept when it is described."""
        from everyshelf.service.origins.actions.keeping import keep_steps
        from everyshelf.service.shelves.actions.describing import follow_describing

        follow_describing(keep_steps)

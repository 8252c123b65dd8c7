"""The Django app."""

from django.apps import AppConfig


class UsesConfig(AppConfig):
    """Who uses what."""

    name = "everyshelf.service.uses"
    label = "uses"

    def ready(self) -> None:
        """Have what the artifacts of each commit name read when it is described."""
        from everyshelf.service.shelves.actions.describing import follow_describing
        from everyshelf.service.uses.actions.reading import read_commit

        follow_describing(read_commit)

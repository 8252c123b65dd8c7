"""The Django app."""

from django.apps import AppConfig


class FindConfig(AppConfig):
    """Finding artifacts by the words in them."""

    name = "everyshelf.service.find"
    label = "find"

    def ready(self) -> None:
        """Have the words of each commit read when it is described."""
        from everyshelf.service.find.actions.reading import read_commit
        from everyshelf.service.shelves.actions.describing import follow_describing

        follow_describing(read_commit)

"""The Django app."""

from django.apps import AppConfig


class LineageConfig(AppConfig):
    """What versions were made from."""

    name = "everyshelf.service.lineage"
    label = "lineage"

    def ready(self) -> None:
        """Have what a commit says it was made from written down when it is described."""
        from everyshelf.service.lineage.actions.recording import record_commit
        from everyshelf.service.shelves.actions.describing import follow_describing

        follow_describing(lambda commit, _give_way: record_commit(commit))

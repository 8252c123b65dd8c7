"""The Django app."""

from django.apps import AppConfig


class ProposalsConfig(AppConfig):
    """Proposals, remarks and verdicts."""

    name = "everyshelf.service.proposals"
    label = "proposals"

    def ready(self) -> None:
        """Let nobody merge past an open proposal without a reason."""
        from everyshelf.service.proposals.actions.proposals import standing_open
        from everyshelf.service.shelves.actions.merging import before_merging

        before_merging(standing_open)

"""The Django app."""

from django.apps import AppConfig


class ProposalsConfig(AppConfig):
    """Proposals, remarks and verdicts."""

    name = "everyshelf.service.proposals"
    label = "proposals"

"""The Django app."""

from django.apps import AppConfig


class EnvironmentsConfig(AppConfig):
    """Environments, rehearsal, promotion, rollback."""

    name = "everyshelf.service.environments"
    label = "environments"

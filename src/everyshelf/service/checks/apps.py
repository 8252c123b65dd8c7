"""The Django app."""

from django.apps import AppConfig


class ChecksConfig(AppConfig):
    """Recorded checks."""

    name = "everyshelf.service.checks"
    label = "checks"

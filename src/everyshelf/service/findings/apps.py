"""The Django app."""

from django.apps import AppConfig


class FindingsConfig(AppConfig):
    """What each version changed."""

    name = "everyshelf.service.findings"
    label = "findings"

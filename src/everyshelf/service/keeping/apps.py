"""The Django app."""

from django.apps import AppConfig


class KeepingConfig(AppConfig):
    """How bytes are kept."""

    name = "everyshelf.service.keeping"
    label = "keeping"

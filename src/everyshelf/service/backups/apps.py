"""The Django app."""

from django.apps import AppConfig


class BackupsConfig(AppConfig):
    """Backups of the installation."""

    name = "everyshelf.service.backups"
    label = "backups"

"""The Django app."""

from django.apps import AppConfig


class LineageConfig(AppConfig):
    """What versions were made from."""

    name = "everyshelf.service.lineage"
    label = "lineage"

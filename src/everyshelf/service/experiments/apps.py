"""The Django app."""

from django.apps import AppConfig


class ExperimentsConfig(AppConfig):
    """Experiments and their runs."""

    name = "everyshelf.service.experiments"
    label = "experiments"

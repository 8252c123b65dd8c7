"""The Django app."""

from django.apps import AppConfig


class JobsConfig(AppConfig):
    """Long work: progress, cancel, restart."""

    name = "everyshelf.service.jobs"
    label = "jobs"

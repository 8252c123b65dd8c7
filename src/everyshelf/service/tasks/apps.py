"""The Django app."""

from django.apps import AppConfig


class TasksConfig(AppConfig):
    """Which commit is for which task."""

    name = "everyshelf.service.tasks"
    label = "tasks"

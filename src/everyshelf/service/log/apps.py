"""The Django app."""

from django.apps import AppConfig


class LogConfig(AppConfig):
    """Who did what."""

    name = "everyshelf.service.log"
    label = "log"

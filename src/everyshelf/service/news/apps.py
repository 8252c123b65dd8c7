"""The Django app."""

from django.apps import AppConfig


class NewsConfig(AppConfig):
    """What others did since one last looked."""

    name = "everyshelf.service.news"
    label = "news"

"""The Django app."""

from django.apps import AppConfig


class DavConfig(AppConfig):
    """Shelves as a network folder."""

    name = "everyshelf.service.dav"
    label = "dav"

"""The Django app."""

from django.apps import AppConfig


class ShelvesConfig(AppConfig):
    """Shelves, branches, commits, tags, contents and comparison."""

    name = "everyshelf.service.shelves"
    label = "shelves"

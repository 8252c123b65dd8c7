"""The Django app."""

from django.apps import AppConfig


class SavedViewsConfig(AppConfig):
    """Views of a shelf that people saved."""

    name = "everyshelf.service.saved_views"
    label = "saved_views"

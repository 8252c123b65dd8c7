"""The Django app."""

from django.apps import AppConfig


class DraftsConfig(AppConfig):
    """Drafts and their save points."""

    name = "everyshelf.service.drafts"
    label = "drafts"

"""The Django app."""

from django.apps import AppConfig


class ClaimsConfig(AppConfig):
    """Claims on locations."""

    name = "everyshelf.service.claims"
    label = "claims"

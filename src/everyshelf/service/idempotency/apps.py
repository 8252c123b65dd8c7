"""The Django app."""

from django.apps import AppConfig


class IdempotencyConfig(AppConfig):
    """Answers kept for writes that are sent again."""

    name = "everyshelf.service.idempotency"
    label = "idempotency"

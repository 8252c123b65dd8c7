"""The Django app."""

from django.apps import AppConfig


class EventsConfig(AppConfig):
    """Webhooks and what was delivered to them."""

    name = "everyshelf.service.events"
    label = "events"

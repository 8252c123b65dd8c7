"""The Django app."""

from django.apps import AppConfig


class ExchangeConfig(AppConfig):
    """The exchange with Git."""

    name = "everyshelf.service.exchange"
    label = "exchange"

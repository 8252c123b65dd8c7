"""The Django app."""

from django.apps import AppConfig


class InPlaceConfig(AppConfig):
    """Data that is registered where it lies."""

    name = "everyshelf.service.in_place"
    label = "in_place"

    def ready(self) -> None:
        """Have the store read what lies outside it."""
        from everyshelf.service.base.context import read_outside_with
        from everyshelf.service.in_place.actions.reading import ServiceOutside

        read_outside_with(ServiceOutside())

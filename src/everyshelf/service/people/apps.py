"""The Django app."""

from django.apps import AppConfig


class PeopleConfig(AppConfig):
    """Who may do what: people, roles, tokens, sign-in."""

    name = "everyshelf.service.people"
    label = "people"

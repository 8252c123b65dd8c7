"""All kinds of jobs there are: importing their modules registers them."""

from __future__ import annotations

import importlib

_MODULES = (
    "everyshelf.service.jobs.housekeeping",
    "everyshelf.service.shelves.jobs",
    "everyshelf.service.drafts.jobs",
    "everyshelf.service.origins.jobs",
    "everyshelf.service.find.jobs",
    "everyshelf.service.uses.jobs",
    "everyshelf.service.findings.jobs",
    "everyshelf.service.queries.jobs",
    "everyshelf.service.environments.jobs",
    "everyshelf.service.exchange.jobs",
    "everyshelf.service.backups.jobs",
    "everyshelf.service.keeping.jobs",
    "everyshelf.service.in_place.jobs",
    "everyshelf.service.events.jobs",
)


def load() -> None:
    """Register every kind."""
    for module in _MODULES:
        importlib.import_module(module)

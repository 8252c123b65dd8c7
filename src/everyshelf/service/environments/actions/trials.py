"""Trial environments that are over."""

from __future__ import annotations

from pathlib import Path

import structlog
from django.utils import timezone

from everyshelf.core.errors import EveryShelfError
from everyshelf.core.promotion.folder import FolderDestination
from everyshelf.service.base.acts import one_act
from everyshelf.service.claims.actions.taking import give_back
from everyshelf.service.environments.actions.manifests import recorded
from everyshelf.service.environments.actions.places import destination_of, forget_copies
from everyshelf.service.environments.models import Environment
from everyshelf.service.log.actions import note_of

log = structlog.get_logger("everyshelf.environments")


def end_trial(environment: Environment, who: str) -> None:
    """Take away what was put there, and end the environment; its record is kept."""
    _clear(environment)
    with one_act():
        note_of(who, "environment.removed", environment.name, environment.shelf, via="", trial=True)
        environment.ended = timezone.now()
        environment.access = None
        environment.save(update_fields=["ended", "access"])
        give_back("environment", environment.pk)
    forget_copies(environment)


def _clear(environment: Environment) -> None:
    if environment.destination == "folder":
        keys = list(environment.deployments.values_list("key", flat=True))
        FolderDestination(Path(environment.address)).clear(keys)
        return
    destination, record = destination_of(environment), recorded(environment)
    key = f"end-{environment.pk}"
    present = destination.present()
    ours = {path for path, row in record.items() if row.source}
    left = {path: placed for path, placed in present.items() if path not in ours}
    destination.stage(key, present, left, lambda path: iter(()))
    destination.switch(key)
    destination.settle(key)


def end_expired() -> int:
    """End every trial environment whose time is over; gives how many. One that cannot be cleared is tried again."""
    count = 0
    for environment in Environment.objects.filter(ended=None, expires__lte=timezone.now()).select_related("shelf"):
        try:
            end_trial(environment, environment.made_by)
            count += 1
        except (EveryShelfError, OSError) as error:
            log.warning("a trial environment could not be cleared", environment=environment.name, why=str(error))
    return count

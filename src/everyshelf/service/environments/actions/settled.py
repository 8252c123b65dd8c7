"""Reading what is in an environment while no promotion changes it.

A promotion may begin and end during a read: what was listed is then partly another deployment's work, and
a file that was listed may be gone. Nothing of this is drift, and nothing of it is an error of whoever asked.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

from everyshelf.core.errors import ConflictError, MissingError
from everyshelf.service.base.turns import turns
from everyshelf.service.environments.models import Environment, Phase

_IN_BETWEEN = (Phase.SWITCHING, Phase.SWITCHED, Phase.VERIFIED)
_TOUCHES_NOTHING = (Phase.PLANNED, Phase.STAGED)
_NEWEST = 20
_READ_AGAIN_AFTER = (0.2, 0.5, 1.0)  # seconds
T = TypeVar("T")


def quiet_since(environment: Environment) -> tuple[tuple[int, str], ...] | None:
    """How its newest deployments ended, to be compared after what is there was read: if that is another answer then,
    what was read is partly another deployment's work. None while one is in between: there, and not recorded yet."""
    rows = environment.deployments.exclude(state__in=_TOUCHES_NOTHING).order_by("-number")
    found = tuple((key, str(state)) for key, state in rows.values_list("pk", "state")[:_NEWEST])
    return None if any(state in _IN_BETWEEN for _, state in found) else found


def is_settled(environment: Environment, quiet: tuple[tuple[int, str], ...] | None) -> bool:
    """Whether no promotion changed what is there since ``quiet`` was asked."""
    return quiet is not None and quiet_since(environment) == quiet


def read_settled(environment: Environment, read: Callable[[], T]) -> T:
    """What ``read`` makes of what is there, read while no promotion changed it; read again a few times if one did.

    Raises ``ConflictError`` (environment.busy) if promotions go on changing it.
    """
    turns.let_go()  # most of it is waiting for another place
    for pause in (*_READ_AGAIN_AFTER, None):
        quiet = quiet_since(environment)
        if quiet is not None:
            try:
                found = read()
            except MissingError:
                if is_settled(environment, quiet):
                    raise
            else:
                if is_settled(environment, quiet):
                    return found
        if pause is not None:
            time.sleep(pause)
    raise ConflictError(
        f"a promotion is changing what is in {environment.name}",
        code="environment.busy",
        hint="Look again when it is done.",
    )

"""How the ids of tasks are written on a shelf, and where tasks are kept."""

from __future__ import annotations

from urllib.parse import quote, urlsplit

from everyshelf.core.errors import InvalidError
from everyshelf.service.base.acts import one_act
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.models import Shelf
from everyshelf.service.tasks.actions.finding import TaskPattern
from everyshelf.service.tasks.models import TaskSettings

_SLOT = "{task}"


def settings_of(shelf: Shelf) -> TaskSettings:
    """What is set; nothing where nothing was."""
    return TaskSettings.objects.filter(shelf=shelf).first() or TaskSettings(shelf=shelf)


def change_settings(caller: Caller, shelf: Shelf, pattern: str | None, address: str | None) -> TaskSettings:
    """Change pattern and address; None leaves as it is, an empty text takes away."""
    require(caller, shelf, "change the shelf")
    if pattern is not None:
        TaskPattern(pattern)
    if address:
        _check_address(address)
    with one_act():
        found, _ = TaskSettings.objects.get_or_create(shelf=shelf)
        changed = {}
        for field, value in (("pattern", pattern), ("address", address)):
            if value is not None and value != getattr(found, field):
                setattr(found, field, value)
                changed[f"task_{field}"] = value
        if changed:
            found.save(update_fields=["pattern", "address"])
            note(caller, "shelf.changed", shelf.name, shelf, **changed)
    return found


def address_of(found: TaskSettings, task: str) -> str:
    """Where a task is kept; nothing where that is not known."""
    return found.address.replace(_SLOT, quote(task, safe="")) if found.address else ""


def _check_address(address: str) -> None:
    try:
        parts = urlsplit(address)
    except ValueError:
        parts = urlsplit("")
    if parts.scheme not in ("http", "https") or not parts.netloc or _SLOT not in address or not address.isprintable():
        raise InvalidError(
            f"{address[:60]!r} does not lead to a task",
            code="task.address",
            pointer="/address",
            hint="Use https://HOST/PATH with {task} where the id goes.",
        )

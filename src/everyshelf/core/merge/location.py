"""Where in a structured text a value lies, as people would say it."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.formats.source import Group


@dataclass(frozen=True)
class PartLocation:
    """The part a value belongs to: path, type and label; the field it is, and the names that lead to it."""

    path: str = ""
    type: str = ""
    label: str = ""
    field: str | None = None
    names: tuple[str, ...] = ()
    list_name: str = ""
    item_type: str = ""  # of the members of a map of named things
    beside: Group | None = None  # the group it stands in

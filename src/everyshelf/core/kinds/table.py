"""The form in which a kind says what matters: one readable table each, used by one engine."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

from everyshelf.core.kinds.cosmetic import Cosmetic, Place
from everyshelf.core.outline.model import Effect, Part

# (action, part, field or None, before, after) -> effect, or None where the table decides.
Judge = Callable[[str, Part, str | None, Any, Any], Effect | None]

KIND_IDS = (
    "pipeline",
    "workflow",
    "app",
    "notebook",
    "tests",
    "api",
    "script",
    "settings",
    "report",
    "picture",
    "dataset",
    "database",
    "spreadsheet",
    "document",
    "archive",
    "model",
    "opaque",
)


@dataclass(frozen=True)
class KindTable:
    """What one kind says about its parts.

    ``types``: element or list name -> part type. ``derived``: names that only mirror other parts and are left out, each
    with the reason; of JSON and YAML only plain values (counts), never lists. ``ignored``: names that shelf.toml says
    mean nothing. ``cosmetic_types`` and ``cosmetic_fields``: layout, time stamps, texts for people. ``unordered``: part
    types (or "*") whose order has no meaning. ``breaks``: pairs of action and part type, or (action, type, field).
    ``identity``: part type -> fields that identify it. ``in_order``: part types whose order counts although
    ``unordered`` says "*".
    ``lasting_keys``: keys are unique in the whole document, so that a part keeps its key when it goes to another
    parent. ``follows``: field -> the field whose change explains its own, which is then not told beside it.
    ``renamed_if_equal``: part types of which a likeness says nothing: two tensors of one shape are not one renamed.
    ``judge``: for what a table cannot say; None leaves it to the rest.
    """

    id: str
    types: dict[str, str] = field(default_factory=dict)
    derived: Mapping[str, str] = field(default_factory=dict)
    ignored: frozenset[str] = frozenset()
    cosmetic_types: tuple[Cosmetic, ...] = ()
    cosmetic_fields: tuple[Cosmetic, ...] = ()
    unordered: frozenset[str] = frozenset()
    breaks: frozenset[tuple[str, ...]] = frozenset()
    identity: dict[str, tuple[str, ...]] = field(default_factory=dict)
    lasting_keys: bool = False
    in_order: frozenset[str] = frozenset()
    follows: dict[str, str] = field(default_factory=dict)
    renamed_if_equal: frozenset[str] = frozenset()
    judge: Judge | None = None

    @cached_property
    def _of_types(self) -> dict[str, Cosmetic]:
        return {name: entry for entry in self.cosmetic_types for name in entry.names}

    @cached_property
    def _of_fields(self) -> dict[str, list[Cosmetic]]:
        found: dict[str, list[Cosmetic]] = {}
        for entry in self.cosmetic_fields:
            for name in entry.names:
                found.setdefault(name, []).append(entry)
        return found

    def cosmetic_type(self, part_type: str) -> Cosmetic | None:
        """Why parts of that type are cosmetic, or None."""
        return self._of_types.get(part_type)

    def may_be_cosmetic(self, field_name: str) -> bool:
        """False for a name that no entry knows: most, and quickly said."""
        return field_name in self._of_fields

    def cosmetic_field(self, place: Place) -> Cosmetic | None:
        """Why that field is cosmetic where it stands, or None."""
        return next((e for e in self._of_fields.get(place.name, ()) if e.covers(place)), None)

    def is_left_out(self, name: str) -> bool:
        """True for a field, an attribute or an XML element that mirrors others or that shelf.toml ignores."""
        return name in self.derived or name in self.ignored

    def is_unordered(self, part_type: str) -> bool:
        """True if the order of parts of that type carries no meaning."""
        return part_type not in self.in_order and ("*" in self.unordered or part_type in self.unordered)

    def identity_of(self, part_type: str) -> tuple[str, ...]:
        """The fields that are said to identify parts of that type ("*": of any); empty if nobody said."""
        return self.identity.get(part_type) or self.identity.get("*", ())

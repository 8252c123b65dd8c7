"""The form in which a kind says what matters: one readable table each, used by one engine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

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

    ``types``: element or list name -> part type. ``derived``: names that only mirror other parts and are left out; one
    that ``types`` knows too only where it is a plain value, a count.
    ``cosmetic_types`` and ``cosmetic_fields``: layout, time stamps, editor data. ``unordered``: part types (or "*")
    whose order has no meaning. ``breaks``: pairs of action and part type, or (action, type, field). ``identity``: part
    type -> fields that identify it. ``in_order``: part types whose order counts although ``unordered`` says "*".
    ``lasting_keys``: keys are unique in the whole document, so that a part keeps its key when it goes to another
    parent. ``follows``: field -> the field whose change explains its own, which is then not told beside it.
    ``renamed_if_equal``: part types of which a likeness says nothing: two tensors of one shape are not one renamed.
    ``judge``: for what a table cannot say; None leaves it to the rest.
    """

    id: str
    types: dict[str, str] = field(default_factory=dict)
    derived: frozenset[str] = frozenset()
    cosmetic_types: frozenset[str] = frozenset()
    cosmetic_fields: frozenset[str] = frozenset()
    unordered: frozenset[str] = frozenset()
    breaks: frozenset[tuple[str, ...]] = frozenset()
    identity: dict[str, tuple[str, ...]] = field(default_factory=dict)
    lasting_keys: bool = False
    in_order: frozenset[str] = frozenset()
    follows: dict[str, str] = field(default_factory=dict)
    renamed_if_equal: frozenset[str] = frozenset()
    judge: Judge | None = None

    def is_unordered(self, part_type: str) -> bool:
        """True if the order of parts of that type carries no meaning."""
        return part_type not in self.in_order and ("*" in self.unordered or part_type in self.unordered)

    def identity_of(self, part_type: str) -> tuple[str, ...]:
        """The fields that are said to identify parts of that type ("*": of any); empty if nobody said."""
        return self.identity.get(part_type) or self.identity.get("*", ())


def singular(name: str) -> str:
    """A list's name turned into its items' type: steps -> step, entries -> entry, branches -> branch."""
    if name.endswith("ies") and len(name) > 4:
        return name[:-3] + "y"
    if name.endswith(("ches", "shes", "sses", "xes")):
        return name[:-2]
    if name.endswith("s") and not name.endswith(("ss", "us", "is")) and len(name) > 2:
        return name[:-1]
    return name

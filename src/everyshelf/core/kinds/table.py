"""The form in which a kind says what matters: one readable table each, used by one engine."""

from __future__ import annotations

from dataclasses import dataclass, field

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

# Names that tell an identity nearly everywhere, best first.
ID_NAMES = ("id", "@id", "key", "code", "uid", "uuid", "name", "path", "slug", "operationId", "title", "ref")


@dataclass(frozen=True)
class KindTable:
    """What one kind says about its parts.

    ``types``: element or list name -> part type. ``derived``: names that only mirror other parts and are left out.
    ``cosmetic_types`` and ``cosmetic_fields``: layout, time stamps, editor data. ``unordered``: part types (or "*")
    whose order has no meaning. ``breaks``: pairs of action and part type, or (action, type, field). ``identity``: part
    type -> fields that identify it.
    """

    id: str
    types: dict[str, str] = field(default_factory=dict)
    derived: frozenset[str] = frozenset()
    cosmetic_types: frozenset[str] = frozenset()
    cosmetic_fields: frozenset[str] = frozenset()
    unordered: frozenset[str] = frozenset()
    breaks: frozenset[tuple[str, ...]] = frozenset()
    identity: dict[str, tuple[str, ...]] = field(default_factory=dict)

    def is_unordered(self, part_type: str) -> bool:
        """True if the order of parts of that type carries no meaning."""
        return "*" in self.unordered or part_type in self.unordered

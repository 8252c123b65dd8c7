"""Names that tell which field or column identifies a thing."""

from __future__ import annotations

# Names that tell an identity nearly everywhere, best first.
ID_NAMES = ("id", "@id", "key", "code", "uid", "uuid", "name", "path", "slug", "operationId", "title", "ref")


def is_id_like(name: str) -> int | None:
    """How id-like a field's name is (0 best), or None."""
    if name in ID_NAMES:
        return ID_NAMES.index(name)
    lower = name.lower()
    if lower in ID_NAMES:
        return ID_NAMES.index(lower)
    if lower.endswith(("_id", "-id", "_code", "_key")) or (name.endswith("Id") and len(name) > 2):
        return len(ID_NAMES)
    return None

"""Making parts from what a kind's own reader understood, with values that compare as the parts do."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import orjson

from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part, Scalar

_MAX_LABEL = 80


class Maker:
    """Makes parts under one kind's table."""

    def __init__(self, table: KindTable) -> None:
        self.table = table

    def part(
        self,
        part_type: str,
        label: str,
        key: str | None = None,
        fields: Mapping[str, Any] | None = None,
        children: Iterable[Part] = (),
        *,
        anonymous: bool = False,
    ) -> Part:
        """A part whose value holds exactly its fields and its children's values.

        ``anonymous``: no field identifies it, whatever its values are (a step, a paragraph).

        Keys that repeat among children of one type are told apart by their number. Fields that are None are left out.
        """
        below = list(children)
        _tell_apart(below)
        kept: dict[str, Scalar] = {
            k: v for k, v in (fields or {}).items() if v is not None and not self.table.is_left_out(k)
        }
        return Part(
            part_type,
            " ".join(label.split())[:_MAX_LABEL] or part_type,
            key,
            self._value(kept, below),
            kept,
            lambda: below,
            ordered=True,
            sequence=True,
            identity_fields=None if anonymous else self.table.identity_of(part_type),
        )

    def _value(self, fields: dict[str, Scalar], children: list[Part]) -> dict[str, Any]:
        value: dict[str, Any] = dict(fields)
        groups: dict[str, list[Part]] = {}
        for child in children:
            groups.setdefault(child.type, []).append(child)
        for part_type, group in groups.items():
            if not self.table.is_unordered(part_type):
                value[f"/{part_type}"] = [c.value if c.key is None else {"": c.key, "=": c.value} for c in group]
            elif all(c.key is not None for c in group):
                value[f"/{part_type}"] = {c.key: c.value for c in group}
            else:
                value[f"/{part_type}"] = sorted((c.value for c in group), key=_sortable)
        return value


def _sortable(value: Any) -> bytes:
    return orjson.dumps(value, default=str, option=orjson.OPT_SORT_KEYS | orjson.OPT_NON_STR_KEYS)


def _tell_apart(parts: list[Part]) -> None:
    seen: dict[tuple[str, str], int] = {}
    for part in parts:
        if part.key is None:
            continue
        number = seen[part.type, part.key] = seen.get((part.type, part.key), 0) + 1
        if number > 1:
            part.key = f"{part.key} ({number})"

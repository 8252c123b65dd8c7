"""Records written by column, ``{"fare": [4, 5], "route": ["AB", "BC"]}``, against the same written one by one,
``[{"fare": 4, "route": "AB"}, …]``: brought to one form, so that records are compared with records."""

from __future__ import annotations

from typing import Any

_MOST_DEPTH = 12
_LEAST_SHARED = 0.5  # of the fields of either side

Turned = list[tuple[str, bool]]
"""Path of each list that was turned, and whether the newer side was the one by column."""


def by_records(old: Any, new: Any) -> tuple[Any, Any, Turned]:
    """Both trees with what one holds by column and the other by record turned into records."""
    turned: Turned = []
    one, other = _turned(old, new, "", 0, turned)
    return one, other, turned


def records_of(columns: Any, like: Any) -> list[dict[str, Any]] | None:
    """The records of lists of equal length, if most fields are those of the records ``like``; else None."""
    if not _is_columns(columns) or not _is_records(like):
        return None
    fields = {name for record in like[:1000] for name in record}
    shared = len(fields & columns.keys())
    if shared < _LEAST_SHARED * max(len(fields), len(columns)):
        return None
    return [dict(zip(columns, row, strict=True)) for row in zip(*columns.values(), strict=True)]


def _turned(old: Any, new: Any, path: str, depth: int, turned: Turned) -> tuple[Any, Any]:
    if (records := records_of(new, old)) is not None:
        turned.append((path or "/", True))
        return old, records
    if (records := records_of(old, new)) is not None:
        turned.append((path or "/", False))
        return records, new
    if depth == _MOST_DEPTH or not isinstance(old, dict) or not isinstance(new, dict):
        return old, new
    pairs = {
        name: _turned(old[name], new[name], f"{path}/{name}", depth + 1, turned)
        for name in old.keys() & new.keys()
        if isinstance(old[name], dict | list) and isinstance(new[name], dict | list)
    }
    if not any(old[name] is not one or new[name] is not other for name, (one, other) in pairs.items()):
        return old, new
    return (
        {name: pairs[name][0] if name in pairs else value for name, value in old.items()},
        {name: pairs[name][1] if name in pairs else value for name, value in new.items()},
    )


def _is_records(tree: Any) -> bool:
    return isinstance(tree, list) and bool(tree) and all(isinstance(one, dict) for one in tree)


def _is_columns(tree: Any) -> bool:
    if not isinstance(tree, dict) or not tree or not all(isinstance(values, list) for values in tree.values()):
        return False
    lengths = {len(values) for values in tree.values()}
    return len(lengths) == 1 and lengths != {0} and not any(_holds_more(values) for values in tree.values())


def _holds_more(values: list[Any]) -> bool:
    return any(isinstance(value, dict | list) for value in values)

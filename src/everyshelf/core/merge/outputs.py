"""Outputs of a notebook's cell: of the side whose source won, cleared where both changed it."""

from __future__ import annotations

from everyshelf.core.formats.source import Node
from everyshelf.core.merge.policy import Policy


def side_of_outputs(policy: Policy, base: Node, target: Node, source: Node) -> str | None:
    """The side whose source won, "none" if both changed it; None for what is no cell, or a cell whose source stayed."""
    if policy.table.id != "notebook" or base.shape != "map" or "outputs" not in base.value:
        return None
    name = "source" if "source" in base.value else "input"
    sources = ["".join(v) if isinstance(v := n.value.get(name), list) else v for n in (base, target, source)]
    if sources[1] == sources[2]:
        return "target" if sources[1] != sources[0] else None
    if sources[1] == sources[0]:
        return "source"
    return "target" if sources[2] == sources[0] else "none"

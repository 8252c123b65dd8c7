"""Fields made from another field of the same part: of the side where that one won, cleared where both changed it."""

from __future__ import annotations

from everyshelf.core.formats.source import Node
from everyshelf.core.kinds.merge_policy import Follows


def side_to_follow(follows: Follows | None, base: Node, target: Node, source: Node) -> str | None:
    """The side to take them from, "none" if both changed what they follow; None where it stayed, or for other parts."""
    if follows is None or base.shape != "map" or follows.mark not in base.value:
        return None
    name = next((name for name in follows.of if name in base.value), follows.of[-1])
    said = ["".join(v) if isinstance(v := n.value.get(name), list) else v for n in (base, target, source)]
    if said[1] == said[2]:
        return "target" if said[1] != said[0] else None
    if said[1] == said[0]:
        return "source"
    return "target" if said[2] == said[0] else "none"

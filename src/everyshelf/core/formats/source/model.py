"""The form in which a text is taken apart: nodes that hold groups of items, with what stands between them.

A text is ``node``; a node that holds others is the sum of its groups; a group is
``opening + item + separator + item … + closing``; an item is ``lead + head + node + tail``.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

Shape = Literal["map", "list", "element", "scalar"]
Style = Literal["flow", "block", "plain"]


class Node:
    """A value as it stands in a text: ``text``, the ``value`` it means, and its groups, made when asked for."""

    __slots__ = ("_groups", "_make", "shape", "style", "text", "value")

    def __init__(
        self,
        text: str,
        value: Any,
        shape: Shape = "scalar",
        style: Style = "plain",
        make: Callable[[], list[Group]] | None = None,
    ) -> None:
        self.text, self.value, self.shape, self.style = text, value, shape, style
        self._make = make
        self._groups: list[Group] | None = None

    @property
    def groups(self) -> list[Group]:
        """What it holds: one group of a map or list; attributes and children of an element; none of a scalar."""
        if self._groups is None:
            self._groups = self._make() if self._make is not None else []
        return self._groups


@dataclass(slots=True, eq=False)
class Item:
    """A member of a group.

    ``name`` in a map; ``lead`` is the white space and comments before it, ``head`` its key and what separates that from
    its value (or a dash), ``tail`` a comment behind it on its last line.
    """

    name: str | None
    node: Node
    lead: str = ""
    head: str = ""
    tail: str = ""

    @property
    def text(self) -> str:
        """Without its lead."""
        return self.head + self.node.text + self.tail


@dataclass(slots=True, eq=False)
class Group:
    """Items beside each other. ``indent`` is what their lines begin with, None where they stand on one line."""

    kind: Literal["map", "list"]
    opening: str
    closing: str
    separator: str
    items: Sequence[Item] = field(default_factory=list)
    indent: str | None = None


def written(node: Node) -> str:
    """The text of ``node`` put together from its parts: always equal to ``node.text``."""
    if not node.groups:
        return node.text
    return "".join(
        group.opening
        + group.separator.join(i.lead + i.head + written(i.node) + i.tail for i in group.items)
        + group.closing
        for group in node.groups
    )


def last_line(text: str) -> str | None:
    """What follows the last line break of white space; None without a line break."""
    return text[text.rfind("\n") + 1 :] if "\n" in text else None

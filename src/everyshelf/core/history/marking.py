"""The rules a shelf is read by in a state, and the folders kept whole that they make."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Protocol

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.history.trees import Entry, Trees
from everyshelf.core.history.wholes import keep_whole
from everyshelf.core.kinds.rules import FILE_NAME, Rules, parse_rules


class Texts(Protocol):
    """Where ``shelf.toml`` is read."""

    def read(self, identity: str) -> bytes:
        """A whole content."""


def rules_at(store: Texts, trees: Trees, root: str) -> Rules:
    """The rules of the shelf in this state; without a readable ``shelf.toml``, empty ones."""
    return _rules_in(store, trees.find(root, FILE_NAME))


def _rules_in(store: Texts, entry: Entry | None) -> Rules:
    if entry is None or entry.type != "artifact":
        return Rules()
    try:
        return parse_rules(decode(store.read(entry.id)).text)
    except (InvalidError, UnreadableError):
        return Rules()


def marked(store: Texts, trees: Trees, before: str, after: str, changed: Iterable[str] | None = None) -> str:
    """The state with the folders kept whole that are to be: one artifact each.

    ``changed``: the files that are new or other than before, where they are known.
    """
    said = trees.find(after, FILE_NAME)
    changed_rules = trees.find(before, FILE_NAME) != said
    return keep_whole(trees, before, after, _rules_in(store, said), everywhere=changed_rules, changed=changed)

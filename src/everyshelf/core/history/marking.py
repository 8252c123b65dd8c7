"""The rules a shelf is read by in a state, and the folders kept whole that they make."""

from __future__ import annotations

from collections.abc import Iterable

from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.history.trees import Trees
from everyshelf.core.history.wholes import keep_whole
from everyshelf.core.kinds.rules import FILE_NAME, Rules, parse_rules


def rules_at(store: ContentStore, trees: Trees, root: str) -> Rules:
    """The rules of the shelf in this state; without a readable ``shelf.toml``, empty ones."""
    entry = trees.find(root, FILE_NAME)
    if entry is None or entry.type != "artifact":
        return Rules()
    try:
        return parse_rules(decode(store.read(entry.id)).text)
    except (InvalidError, UnreadableError):
        return Rules()


def marked(store: ContentStore, trees: Trees, before: str, after: str, changed: Iterable[str] | None = None) -> str:
    """The state with the folders kept whole that are to be: one artifact each.

    ``changed``: the files that are new or other than before, where they are known.
    """
    changed_rules = trees.find(before, FILE_NAME) != trees.find(after, FILE_NAME)
    rules = rules_at(store, trees, after)
    return keep_whole(trees, before, after, rules, everywhere=changed_rules, changed=changed)

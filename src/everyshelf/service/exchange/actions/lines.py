"""How far each branch and tag is from its other side, and in which words that is told."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

import msgspec

from everyshelf.core.errors import EveryShelfError
from everyshelf.service.shelves.actions.refs import check_branch_name

_TAGS = "refs/tags/"
DELETED_HERE = "it was deleted on the shelf, and Git still has it"
DELETED_HERE_HINT = "Delete it in Git, too; or make it again: everyshelf branch make {}"
DELETED_THERE = "it was deleted in Git, and nothing was added to it here since: it is not sent again"
DELETED_THERE_HINT = "Delete it here, too: everyshelf branch delete {}"
_ODD_NAME, _ODD_NAME_HINT = "a shelf cannot have a branch or tag of that name", "Rename it in Git."
_ONLY_GIT, _FETCH_HINT = "only Git has it", "Fetch it: everyshelf git-link fetch NAME"
_NO_COMMIT, _NO_COMMIT_HINT = "it names no commit, and a shelf keeps tags of commits only", "Tag a commit in Git."
_OTHER_TAG, _OTHER_TAG_HINT = "it names another commit in Git", "Tags never move: make another one on either side."
_MOST_TAGS = 3_000
_MOST_OF_NAME = 200


class Line(msgspec.Struct, omit_defaults=True):
    """How far a branch (or a tag) is from its other side. ``merge``: the merge that waits to be settled."""

    branch: str
    git: str
    state: str
    ahead: int = 0
    behind: int = 0
    merge: str = ""
    why: str = ""
    hint: str = ""
    shared: str = ""  # the newest commit of it that both sides are known to have


def may_be_branch(name: str) -> bool:
    """Whether the shelf can have a branch or tag of a name that stands in Git."""
    try:
        check_branch_name(name)
    except EveryShelfError:
        return False
    return len(name) <= 120


def name_shown(name: str) -> str:
    """The name of a branch or tag in Git as a text that can be printed and recorded: others give it any bytes."""
    text = name.encode("utf-8", "surrogateescape").decode("utf-8", "replace")
    return "".join(sign if sign.isprintable() else "\ufffd" for sign in text)[:_MOST_OF_NAME]


def names_apart(
    there: Mapping[str, str], ours: Mapping[str, str] | None, branches: Sequence[str], *, was_fetched: bool
) -> Iterator[Line]:
    """A line for each tag that only Git has, or has for another commit, and for each name there that the shelf cannot
    have: who reads *in step* relies on there being none. ``ours``: the tags here; None if tags are not joined."""
    for name in branches[:_MOST_TAGS]:
        if not may_be_branch(name):
            shown = name_shown(name)
            yield Line(shown, shown, "behind", why=_ODD_NAME, hint=_ODD_NAME_HINT)
    tags = [ref for ref in sorted(there) if ref.startswith(_TAGS)] if ours is not None else []
    for ref in tags[:_MOST_TAGS]:
        assert ours is not None
        name = ref.removeprefix(_TAGS)
        shown = f"tag:{name_shown(name)}"
        if not may_be_branch(name):
            yield Line(shown, shown, "behind", why=_ODD_NAME, hint=_ODD_NAME_HINT)
        elif ref not in ours:
            why, hint = (_NO_COMMIT, _NO_COMMIT_HINT) if was_fetched else (_ONLY_GIT, _FETCH_HINT)
            yield Line(shown, shown, "behind", why=why, hint=hint)
        elif ours[ref] != there[ref]:
            yield Line(shown, shown, "diverged", why=_OTHER_TAG, hint=_OTHER_TAG_HINT)

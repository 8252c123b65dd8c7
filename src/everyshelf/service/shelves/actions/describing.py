"""What each version a commit made changed against the one it was made of, written into the records."""

from __future__ import annotations

from collections.abc import Callable

from everyshelf.core.compare.sentences import effect_of, headline
from everyshelf.core.errors import InvalidError
from everyshelf.core.kinds.rules import Rules
from everyshelf.service.base.context import get_store
from everyshelf.service.shelves.actions.comparing import FINGERPRINT_BYTES, compare_pair, make_fingerprint
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.pairs import Pairing
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.version_parents import first_parent_of
from everyshelf.service.shelves.models import ArtifactVersion, Commit

# What else is read of a commit once it is described.
Follower = Callable[[Commit, Callable[[], None]], None]
followers: list[Follower] = []
_MOST_DESCRIBED = 2000  # a larger commit is described by its comparison, not by a line for each artifact


def follow_describing(follower: Follower) -> None:
    """Have something done with each commit once it is described, in the same job.

    What takes long calls what it is given beside the commit from time to time: that ends it where others wait, and it
    is done again later, so it has to pass over what it has done.
    """
    followers.append(follower)


def describe_commit(commit: Commit, give_way: Callable[[], None]) -> None:
    """Write effect and headline into each version of a commit (the work of a job)."""
    commit.versions.filter(number=1).update(effect="alters", headline="first version")
    versions = commit.versions.filter(content__gt="", headline="").select_related("artifact", "shelf")
    rules, lineage = rules_at(commit.root), lineage_of(commit.shelf)
    for version in versions[:_MOST_DESCRIBED]:
        give_way()
        previous = first_parent_of(version, lineage)
        version.effect, version.headline = _described(version, previous, rules)
        version.save(update_fields=["effect", "headline"])


def _described(version: ArtifactVersion, previous: ArtifactVersion | None, rules: Rules) -> tuple[str, str]:
    if previous is None:
        return "alters", "first version"
    before, after = entry_of(previous), entry_of(version)
    if before.id == after.id:
        return "alters", f"moved from {previous.path}" if previous.path != version.path else "same content again"
    if any(get_store().lies_outside(entry.id) for entry in (before, after)):
        return "", "in place; open the comparison to see what changed"
    if version.kind == "dataset" and min(before.size, after.size) >= FINGERPRINT_BYTES:
        for path, entry in ((previous.path, before), (version.path, after)):
            make_fingerprint(path, entry, rules)
    try:
        found = compare_pair(Pairing(version.path, previous.path, before, after), rules, "job")
    except InvalidError as error:
        return "alters", error.message[:300]
    assert found is not None
    return effect_of(found) or ("cosmetic" if found.judged else ""), headline(found)[:300]

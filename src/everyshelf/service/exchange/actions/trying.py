"""Trying a link before anything moves: what is there, what may be done, and what it would do."""

from __future__ import annotations

from everyshelf.core.answers.exchange import GitTried
from everyshelf.gitside.incoming import apart
from everyshelf.gitside.remote import remote_of
from everyshelf.gitside.repository import NO_OBJECT, Repository
from everyshelf.service.exchange.actions.bringing_out import bring_out
from everyshelf.service.exchange.actions.lines import may_be_branch, name_shown
from everyshelf.service.exchange.actions.links import access_of
from everyshelf.service.exchange.actions.repositories import folder_of, locked, opened
from everyshelf.service.exchange.actions.showing import bring_up_to_date
from everyshelf.service.exchange.actions.sides import held_by
from everyshelf.service.exchange.actions.syncing import knows_nothing, pairs_of
from everyshelf.service.exchange.models import GitLink
from everyshelf.service.shelves.models import Commit

_HEADS, _TAGS = "refs/heads/", "refs/tags/"
_MOST_AT_ONCE = 200
_SECONDS = 60.0  # a person waits for the answer


def try_link(link: GitLink) -> GitTried:
    """Reach the repository with what the link has; raises the cause if that fails."""
    held = held_by(link)
    with locked(held):
        with opened(held):
            pass  # it is there now, with nothing in it at first
        with apart(folder_of(held)) as repository:
            remote = remote_of(repository, access_of(link))
            there = remote.refs()
        is_new = bool(there) and link.way != "send" and knows_nothing(link)
        lacking = _lacking(link)
        is_later = is_new or lacking > _MOST_AT_ONCE or bool(link.parts and lacking)
        if not is_later:
            bring_out(link)
            bring_up_to_date(held)
        with apart(folder_of(held)) as repository:
            remote = remote_of(repository, access_of(link), seconds=_SECONDS)
            if link.way != "fetch":
                remote.try_writing()
            ours = repository.refs(_HEADS)
            pairs = pairs_of(link, there)
            joined = [f"{_HEADS}{other}" for _, other in pairs if f"{_HEADS}{other}" in there]
            theirs = [there[ref] for ref in joined]
            mine = [ours[f"{_HEADS}{here}"] for here, _ in pairs if f"{_HEADS}{here}" in ours]
            below = "refs/tried"
            remote.fetch({ref: f"{below}/{ref}" for ref in joined})
            would_fetch = _count(repository, theirs, list(ours.values())) if link.way != "send" else 0
            would_send = _count(repository, mine, theirs) if link.way != "fetch" else 0
            if is_later and link.way != "fetch":  # which of them are there already is known once they are mapped
                would_send = max(0, would_send + lacking - would_fetch)
            left = repository.refs(f"{below}/")
            repository.move_refs({name: (identity, NO_OBJECT) for name, identity in left.items()})
    names = [name.removeprefix(_HEADS) for name in there if name.startswith(_HEADS)]
    tags = [name.removeprefix(_TAGS) for name in there if name.startswith(_TAGS)]
    return GitTried(
        branches_there=[name_shown(name) for name in names],
        tags=len(tags),
        would_send=would_send,
        would_fetch=would_fetch,
        may_write=link.way != "fetch",
        odd_names=[name_shown(name) for name in (*names, *tags) if not may_be_branch(name)],
    )


def _lacking(link: GitLink) -> int:
    """How many commits are still to be mapped: work for a job where they are many, or files are to be unfolded."""
    commits = Commit.objects.filter(shelf=link.shelf)
    if link.side is not None:
        return commits.exclude(side_commits__link=link).count()
    return commits.exclude(git_pairs__mapping="").count()


def _count(repository: Repository, tips: list[str], without: list[str]) -> int:
    return sum(1 for _ in repository.line(tips, without)) if tips else 0

"""Refs: a name for "the shelf at …" in any call."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime, time
from typing import Any

from django.utils import timezone
from django.utils.dateparse import parse_date, parse_datetime

from everyshelf.core.answers.states import RefAnswer
from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.service.base.context import get_trees
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.models import Branch, Commit, Shelf, Tag

_WORDS = ("draft", "desk", "env", "tag", "commit", "at", "version")
_COMMIT = re.compile(r"[0-9a-f]{8,64}\Z")
_FIRST, _LAST = datetime(2, 1, 1, tzinfo=UTC), datetime(9998, 12, 31, tzinfo=UTC)
_BRANCH = re.compile(r"[^\s:@\\~^?*\[\x00-\x1f]{1,120}\Z")


@dataclass(frozen=True)
class Resolved:
    """What a ref stands for: its own text, a commit (None for a branch without any), and the root of its folders."""

    ref: str
    kind: str
    commit: Commit | None
    root: str

    def answer(self) -> RefAnswer:
        """What interfaces get."""
        commit = self.commit
        return RefAnswer(
            ref=self.ref,
            kind=self.kind,
            commit=commit.uid if commit else None,
            recorded=commit.recorded if commit else None,
        )


def check_branch_name(name: str) -> str:
    """Return ``name`` if a branch may be called so, else raise ``InvalidError``."""
    is_odd = name in _WORDS or name.startswith("/") or name.endswith("/") or ".." in name
    if not _BRANCH.match(name) or not name.isprintable() or is_odd:
        raise InvalidError(
            f"{name!r} cannot be the name of a branch or tag",
            code="ref.name",
            hint="Use letters, digits, dashes and slashes; no spaces, ':' or '@'.",
        )
    return name


def resolve(shelf: Shelf, ref: str, person: Any = None) -> Resolved:
    """What ``ref`` stands for now; raises ``MissingError`` or ``InvalidError`` that names the ref.

    ``draft``, ``draft:BRANCH`` and ``draft:BRANCH@POINT`` are those of ``person``, and of nobody else.
    """
    word, colon, rest = ref.partition(":")
    if word in _own_refs and person is not None:
        return _own_refs[word](person, shelf, ref, rest or shelf.main_branch)
    if not colon:
        if ref in ("draft", "desk"):
            raise InvalidError(
                f"{ref!r} cannot be meant here",
                code="ref.local",
                hint="A draft can be looked at and compared; a desk knows itself only.",
            )
        return _bare(shelf, ref or shelf.main_branch)
    finder = _refs.get(word)
    if finder is None:
        raise InvalidError(
            f"{ref!r} is not a ref",
            code="ref.invalid",
            hint="A ref is BRANCH, tag:NAME, commit:ID, at:DATE, env:NAME or draft.",
        )
    return _resolved(ref, word, finder(shelf, rest))


def _bare(shelf: Shelf, name: str) -> Resolved:
    """A branch, or where there is none of that name, a tag."""
    branch = while_unchanged(
        ("branch", shelf.pk, name),
        lambda: Branch.objects.select_related("head").filter(shelf=shelf, name=name).first(),
    )
    if branch is not None:
        return _resolved(name, "branch", branch.head)
    tag = Tag.objects.select_related("commit").filter(shelf=shelf, name=name).first()
    if tag is not None:
        return _resolved(f"tag:{name}", "tag", tag.commit)
    branches, tags = (list(rows.values_list("name", flat=True)) for rows in (shelf.branches, shelf.tags))
    raise MissingError(
        f"{shelf.name} has no branch or tag {name!r}",
        code="branch.missing",
        hint=f"{did_you_mean(nearest(name, [*branches, *tags]))}List them: everyshelf branch list, everyshelf tag list",
    )


def _resolved(ref: str, kind: str, commit: Commit | None) -> Resolved:
    return Resolved(ref, kind, commit, commit.root if commit else get_trees().empty)


def get_branch(shelf: Shelf, name: str) -> Branch:
    """The branch called ``name``."""
    branch = Branch.objects.select_related("head").filter(shelf=shelf, name=name).first()
    if branch is None:
        raise MissingError(
            f"{shelf.name} has no branch {name!r}",
            code="branch.missing",
            hint=f"{_meant(shelf.branches, name)}List them: everyshelf branch list",
        )
    return branch


def _meant(rows: Any, name: str) -> str:
    return did_you_mean(nearest(name, rows.values_list("name", flat=True)))


def get_tag(shelf: Shelf, name: str) -> Tag:
    """The tag called ``name``."""
    tag = Tag.objects.select_related("commit").filter(shelf=shelf, name=name).first()
    if tag is None:
        raise MissingError(
            f"{shelf.name} has no tag {name!r}",
            code="tag.missing",
            hint=f"{_meant(shelf.tags, name)}List them: everyshelf tag list",
        )
    return tag


def _tag(shelf: Shelf, name: str) -> Commit:
    return get_tag(shelf, name).commit


def _commit(shelf: Shelf, uid: str) -> Commit:
    if not _COMMIT.match(uid):
        raise InvalidError(f"{uid!r} is not a commit id", code="ref.commit", hint="Give 8 to 64 of its hex digits.")
    # "g" follows all hex digits: a range is found in the index, where a beginning would be sought in every row.
    found = list(Commit.objects.filter(shelf=shelf, uid__gte=uid, uid__lt=f"{uid}g")[:2])
    if not found:
        raise MissingError(
            f"{shelf.name} has no commit {uid[:12]}", code="commit.missing", hint="List them: everyshelf history"
        )
    if len(found) > 1:
        raise ConflictError(f"{uid} begins the ids of several commits", code="ref.ambiguous", hint="Give more digits.")
    return found[0]


def _at(shelf: Shelf, text: str) -> Commit | None:
    """The newest commit of a branch's line that was recorded by then; a day means its end."""
    branch_name, at, date = text.rpartition("@")
    branch = get_branch(shelf, branch_name if at else shelf.main_branch)
    now = timezone.now()
    moment = now if date == "now" else parse_moment(date)
    if branch.head is None or moment >= now:
        return branch.head  # also if the clock went back after it was recorded
    line = lineage_of(shelf).ancestors(branch.head.pk)
    for commit in Commit.objects.filter(shelf=shelf, recorded__lte=moment).order_by("-recorded", "-pk").iterator():
        if commit.pk in line:
            return commit
    return None


def parse_moment(text: str, *, first: bool = False) -> datetime:
    """A date (meaning its end; ``first``: its beginning) or a time; without a zone it is UTC."""
    try:
        day = parse_date(text)
        moment = parse_datetime(text)
    except ValueError:
        day = moment = None
    if day is not None and len(text) <= 10:
        return datetime.combine(day, time.min if first else time.max, UTC)
    if moment is None:
        raise InvalidError(
            f"{text[:60]!r} is not a date", code="ref.date", hint="Write 2026-03-14 or 2026-03-14T09:12."
        )
    # SQLite compares times as text in UTC, so the first and the last hours of the calendar cannot be brought there.
    aware = moment if moment.tzinfo else moment.replace(tzinfo=UTC)
    return min(max(aware, _FIRST), _LAST)


# --- refs of capabilities above shelves ------------------------------------------------

Finder = Callable[[Shelf, str], Commit | None]
OwnState = Callable[[Any, Shelf, str, str], Resolved]
_refs: dict[str, Finder] = {"tag": _tag, "commit": _commit, "at": _at}
_own_refs: dict[str, OwnState] = {}


def register_ref(word: str, finder: Finder) -> None:
    """Let ``WORD:NAME`` stand for the commit that ``finder`` gives for the name."""
    _refs[word] = finder


def register_own_ref(word: str, state: OwnState) -> None:
    """Let ``WORD`` and ``WORD:NAME`` stand for a state only one person sees. ``state`` gets person, shelf, ref and
    name, which is the main branch where none is given."""
    _own_refs[word] = state

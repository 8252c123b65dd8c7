"""Lists of records, a page at a time."""

from __future__ import annotations

import base64
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import reduce
from operator import or_
from typing import Any, Generic, TypeVar

import orjson
from django.db.models import Case, Model, Q, QuerySet, Value, When
from django.utils.timezone import is_naive

from everyshelf.core.errors import InvalidError

T = TypeVar("T", bound=Model)
_MOST_WORDS, _LONGEST_NAME = 20, 500


@dataclass(frozen=True)
class Page(Generic[T]):
    """Some records of a list, and the cursor of the page after them, or None."""

    records: list[T]
    total: int
    next: str | None


def newest_first(rows: QuerySet[T], *, limit: int, cursor: str = "", by: str = "pk") -> Page[T]:
    """A page of ``rows``, those with the highest ``by`` first (a whole number that is given only once, and grows).

    The cursor names the last record of the page before, so that records made meanwhile move no page.
    """
    before = decode_cursor(cursor)
    older = rows.filter(**{f"{by}__lt": before}) if before else rows
    found = list(older.order_by(f"-{by}")[: limit + 1])
    return _page(rows, found, limit, lambda last: str(getattr(last, by)))


def by_name(rows: QuerySet[T], first: str, *, limit: int, cursor: str = "") -> Page[T]:
    """A page of ``rows`` by their ``name``, which is given only once; that of the name ``first`` before all others."""
    after = _decoded(cursor)
    others = rows.exclude(name=first).order_by("name")
    head = [] if cursor else list(rows.filter(name=first))
    found = [*head, *others.filter(name__gt=after)[: limit + 1 - len(head)]]
    return _page(rows, found, limit, lambda last: str(last.name))


def made_last_first(rows: QuerySet[T], *, limit: int, cursor: str = "") -> Page[T]:
    """A page of ``rows`` by the time they tell in ``created``, newest first. That may be an older time than when they
    were recorded, and that of several."""
    older = rows
    if cursor:
        time, number = _time_and_number(cursor)
        older = rows.filter(Q(created__lt=time) | Q(created=time, pk__lt=number))
    found = list(older.order_by("-created", "-pk")[: limit + 1])
    return _page(rows, found, limit, lambda last: f"{last.created.isoformat()} {last.pk}")


def open_first(rows: QuerySet[T], *, limit: int, cursor: str = "") -> Page[T]:
    """A page of ``rows``: those whose ``state`` is open before the others, of each the newest first.

    One that is closed between two pages may be on both of them; none is left out.
    """
    marked: QuerySet[Any] = rows.annotate(is_open=Case(When(state="open", then=Value(1)), default=Value(0)))
    later = marked
    if cursor:
        was_open, _, number = _decoded(cursor).partition(" ")
        group = _number(was_open)
        later = marked.filter(Q(is_open__lt=group) | Q(is_open=group, pk__lt=_number(number)))
    found = list(later.order_by("-is_open", "-pk")[: limit + 1])
    return _page(rows, found, limit, lambda last: f"{last.is_open} {last.pk}")


def _page(rows: QuerySet[T], found: list[T], limit: int, place_of: Callable[[Any], str]) -> Page[T]:
    """A page of what was ``found`` from the cursor on, one more than fits if there are more; ``place_of``: what the
    cursor says of the last one shown."""
    shown = found[:limit]
    return Page(shown, rows.count(), _encoded(place_of(shown[-1])) if len(found) > limit else None)


def _time_and_number(cursor: str) -> tuple[datetime, int]:
    time, _, number = _decoded(cursor).partition(" ")
    try:
        told = datetime.fromisoformat(time)
    except ValueError as error:
        raise _not_given_out() from error
    if is_naive(told):
        raise _not_given_out()
    return told, _number(number)


def named(rows: QuerySet[T], words: str, fields: Sequence[str] = ("name",)) -> QuerySet[T]:
    """Those with all of these words in their ``fields``, each word in any of them, whatever its letter case."""
    for word in words.split()[:_MOST_WORDS]:
        # SQLite refuses to look for a text of tens of thousands of characters.
        has = reduce(or_, (Q(**{f"{field}__icontains": word}) for field in fields))
        rows = rows.filter(has) if len(word) <= _LONGEST_NAME else rows.none()
    return rows


def as_page(page: Page[Any], items: list[dict[str, Any]] | orjson.Fragment) -> dict[str, Any]:
    """The answer of a call that gives a page."""
    return {"items": items, "total": page.total, "next": page.next}


def encode_cursor(place: int) -> str:
    """An opaque cursor."""
    return _encoded(str(place))


def decode_cursor(cursor: str) -> int:
    """The place a cursor stands for, 0 for an empty one; raises ``InvalidError`` for anything else."""
    return _number(_decoded(cursor)) if cursor else 0


def _number(text: str) -> int:
    try:
        place = int(text)
    except ValueError as error:
        raise _not_given_out() from error
    if not 0 <= place < 2**63:
        raise _not_given_out()
    return place


def _encoded(text: str) -> str:
    return base64.urlsafe_b64encode(text.encode()).decode()


def _decoded(cursor: str) -> str:
    try:
        return base64.urlsafe_b64decode(cursor.encode()).decode()
    except (ValueError, UnicodeError) as error:
        raise _not_given_out() from error


def _not_given_out() -> InvalidError:
    return InvalidError("the cursor is not one given out here", code="input.cursor", hint="Start again.")

"""Lists of records, a page at a time."""

from __future__ import annotations

import base64
from dataclasses import dataclass
from typing import Any, Generic, TypeVar

import orjson
from django.db.models import Model, QuerySet

from everyshelf.core.errors import InvalidError

T = TypeVar("T", bound=Model)


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
    shown = found[:limit]
    following = encode_cursor(getattr(shown[-1], by)) if len(found) > limit else None
    return Page(shown, rows.count(), following)


def as_page(page: Page[Any], items: list[dict[str, Any]] | orjson.Fragment) -> dict[str, Any]:
    """The answer of a call that gives a page."""
    return {"items": items, "total": page.total, "next": page.next}


def encode_cursor(place: int) -> str:
    """An opaque cursor."""
    return base64.urlsafe_b64encode(str(place).encode()).decode()


def decode_cursor(cursor: str) -> int:
    """The place a cursor stands for, 0 for an empty one; raises ``InvalidError`` for anything else."""
    if not cursor:
        return 0
    try:
        place = int(base64.urlsafe_b64decode(cursor.encode()).decode())
    except (ValueError, UnicodeError) as error:
        raise _not_given_out() from error
    if not 0 <= place < 2**63:
        raise _not_given_out()
    return place


def _not_given_out() -> InvalidError:
    return InvalidError("the cursor is not one given out here", code="input.cursor", hint="Start again.")

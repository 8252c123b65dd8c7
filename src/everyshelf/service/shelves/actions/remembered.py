"""Answers that were worked out before, kept under all that they depend on and the readers' version."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Callable
from typing import TypeVar

import msgspec
from django.db import DatabaseError

from everyshelf.core.answers.base import as_json
from everyshelf.core.compare.artifact import READER_VERSION
from everyshelf.core.kinds.registry import packages
from everyshelf.decoding import from_json
from everyshelf.service.base.acts import aside
from everyshelf.service.base.room import is_not_writable
from everyshelf.service.shelves.models import CachedComparison

T = TypeVar("T")
Basis = tuple[str, ...]


def key_of(basis: Basis) -> str:
    """The name under which an answer that depends on ``basis`` is kept."""
    whole = "\0".join((*basis, str(READER_VERSION), packages()))
    return hashlib.sha256(whole.encode("utf-8", "surrogatepass")).hexdigest()


def known_answer(basis: Basis, answer_type: type[T]) -> T | None:
    """What was worked out from ``basis`` before by these readers; None if nothing was, or in a form of another time."""
    kept = CachedComparison.objects.filter(key=key_of(basis)).values_list("result", flat=True).first()
    if kept is None:
        return None
    try:
        return from_json(zlib.decompress(kept), answer_type)
    except msgspec.ValidationError:
        return None


def remembered(basis: Basis, answer_type: type[T], work: Callable[[], T]) -> T:
    """What was worked out from ``basis`` before, or else by ``work``, which is kept."""
    known = known_answer(basis, answer_type)
    if known is not None:
        return known
    answer = work()
    _keep(key_of(basis), as_json(answer))
    return answer


def _keep(key: str, answer: bytes) -> None:
    row = CachedComparison(key=key, result=zlib.compress(answer, 3))
    try:
        with aside():
            # Another request may have been quicker with the same answer; one of an older form gives way.
            CachedComparison.objects.bulk_create(
                [row], update_conflicts=True, unique_fields=["key"], update_fields=["result"]
            )
    except DatabaseError as error:
        if not is_not_writable(error):
            raise  # on a full disk the answer is given all the same, and worked out again the next time

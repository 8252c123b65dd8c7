"""Stores: where the bytes of a shelf live.

A place may hold the segments of several stores, told apart by their names: ``STORE~HEX.seg``, and ``HEX.seg`` of the
main store. What is written goes into the store that the code around it says; what is read is found in any of them, in
that one first. So the same bytes may lie in two stores, and each has all that its shelves need.
"""

from __future__ import annotations

import contextlib
import re
import uuid
from collections.abc import Iterator
from contextvars import ContextVar

from everyshelf.core.errors import InvalidError

MAIN = ""
MAIN_NAME = "main"  # as people write it
SEGMENT = ".seg"
_NAME = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*\Z")
_LONGEST = 32
_MARK = "~"

_current: ContextVar[str] = ContextVar("store", default=MAIN)


def checked_name(name: str) -> str:
    """The name of a store as segments have it; raises ``InvalidError`` for what cannot be one."""
    if name in (MAIN, MAIN_NAME):
        return MAIN
    if not _NAME.match(name) or len(name) > _LONGEST:
        raise InvalidError(
            f"{name!r} cannot be the name of a store",
            code="storage.name",
            hint=f"Use lower-case letters, digits and single dashes, up to {_LONGEST}.",
        )
    return name


def told_name(store: str) -> str:
    """The name of a store for people."""
    return store or MAIN_NAME


def new_segment_name(store: str) -> str:
    """A name that no segment has yet."""
    name = f"{uuid.uuid4().hex}{SEGMENT}"
    return f"{store}{_MARK}{name}" if store else name


def store_of(segment: str) -> str:
    """The store to which a segment belongs."""
    store, mark, _ = segment.partition(_MARK)
    return store if mark else MAIN


def current_store() -> str:
    """The store in which the code around this works."""
    return _current.get()


@contextlib.contextmanager
def in_store(store: str) -> Iterator[None]:
    """Write into this store, and read there first, for as long as the block lasts, in this thread."""
    token = _current.set(store)
    try:
        yield
    finally:
        _current.reset(token)

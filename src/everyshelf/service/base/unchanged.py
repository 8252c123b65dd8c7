"""What was read from the records, kept as long as nothing in them changes.

Every reading request asks the same again: whose token this is, which role that person has, where a branch is. SQLite
says for nothing whether anything was written since: ``PRAGMA data_version`` changes when another connection has
committed, ``total_changes`` when this one has written (https://www.sqlite.org/pragma.html#pragma_data_version). Each
thread has a connection of its own, and so what it keeps.

What is kept is shared by the requests of a thread: take it for reading only. In a writing request nothing is kept.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

from django.db import connection

from everyshelf.service.base.acts import current_act

T = TypeVar("T")
_MOST_KEPT = 1_000


class _Kept(threading.local):
    state: tuple[int, int, int] | None = None

    def __init__(self) -> None:
        self.values: dict[Hashable, Any] = {}


_kept = _Kept()


def while_unchanged(key: Hashable, read: Callable[[], T]) -> T:
    """What ``read`` gives, from before if no record was written since. ``key`` says all else it depends on."""
    if connection.in_atomic_block or current_act() is not None:
        return read()
    connection.ensure_connection()
    raw = connection.connection
    state = (id(raw), raw.execute("PRAGMA data_version").fetchone()[0], raw.total_changes)
    if _kept.state != state or len(_kept.values) > _MOST_KEPT:
        _kept.state, _kept.values = state, {}
    if key not in _kept.values:
        _kept.values[key] = read()
    value: T = _kept.values[key]
    return value

"""Locks of the network folder, kept with the records, so that all processes of the service know them."""

from __future__ import annotations

import copy
import time
from collections.abc import Iterator, MutableMapping
from typing import Any

from django.db import connection
from wsgidav.lock_man.lock_storage import LockStorageDict

from everyshelf.service.base.acts import current_act
from everyshelf.service.base.unchanged import while_unchanged
from everyshelf.service.dav.models import LockEntry

_SLACK_SECONDS = 60.0
_MOST_KEPT = 500


class _Entries(MutableMapping[str, Any]):
    """The table as the mapping WsgiDAV expects: tokens to locks, and ``URL2TOKEN:`` paths to tokens."""

    def __getitem__(self, key: str) -> Any:
        value = _read(key)
        if not isinstance(value, dict):
            return copy.copy(value)
        is_ahead = value["expire"] > time.time() + value["timeout"] + _SLACK_SECONDS
        expire = 0 if is_ahead else value["expire"]  # made while the clock was ahead: it would hold until then
        return {**value, "expire": expire, "owner": value["owner"].encode()}

    def __setitem__(self, key: str, value: Any) -> None:
        LockEntry.objects.update_or_create(key=key, defaults={"value": _plain(value)})

    def __delitem__(self, key: str) -> None:
        if not LockEntry.objects.filter(key=key).delete()[0]:
            raise KeyError(key)

    def __iter__(self) -> Iterator[str]:
        return iter(list(LockEntry.objects.values_list("key", flat=True)))

    def __len__(self) -> int:
        return LockEntry.objects.count()


def _read(key: str) -> Any:
    """The value of a key. A listing asks for every file of a folder: outside of a transaction a few locks are kept in
    memory as long as nothing is written; take what it gives for reading only."""
    few = None
    if not connection.in_atomic_block and current_act() is None:
        few = while_unchanged("locks of the network folder", _few)
    if few is not None:
        return few[key]
    try:
        return LockEntry.objects.get(key=key).value
    except LockEntry.DoesNotExist as error:
        raise KeyError(key) from error


def _few() -> dict[str, Any] | None:
    found = dict(LockEntry.objects.values_list("key", "value")[: _MOST_KEPT + 1])
    return found if len(found) <= _MOST_KEPT else None


def _plain(value: Any) -> Any:
    """The owner of a lock is bytes of XML."""
    return {**value, "owner": bytes(value["owner"]).decode()} if isinstance(value, dict) else value


class RecordedLocks(LockStorageDict):  # type: ignore[misc]
    """WsgiDAV's locks over the records. The caller makes each request that locks one transaction."""

    def open(self) -> None:
        """Use the records."""
        self._dict = _Entries()

    def clear(self) -> None:
        """Nothing: other processes use them, too."""

    def close(self) -> None:
        """Nothing, for the same reason."""

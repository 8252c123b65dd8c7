"""Locks of the network folder, kept with the records, so that all processes of the service know them."""

from __future__ import annotations

import time
from collections.abc import Iterator, MutableMapping
from typing import Any

from wsgidav.lock_man.lock_storage import LockStorageDict

from everyshelf.service.dav.models import LockEntry

_SLACK_SECONDS = 60.0


class _Entries(MutableMapping[str, Any]):
    """The table as the mapping WsgiDAV expects: tokens to locks, and ``URL2TOKEN:`` paths to tokens."""

    def __getitem__(self, key: str) -> Any:
        try:
            value = LockEntry.objects.get(key=key).value
        except LockEntry.DoesNotExist as error:
            raise KeyError(key) from error
        if not isinstance(value, dict):
            return value
        if value["expire"] > time.time() + value["timeout"] + _SLACK_SECONDS:
            value["expire"] = 0  # made while the clock was ahead: it would hold until then
        return {**value, "owner": value["owner"].encode()}

    def __setitem__(self, key: str, value: Any) -> None:
        LockEntry.objects.update_or_create(key=key, defaults={"value": _plain(value)})

    def __delitem__(self, key: str) -> None:
        if not LockEntry.objects.filter(key=key).delete()[0]:
            raise KeyError(key)

    def __iter__(self) -> Iterator[str]:
        return iter(list(LockEntry.objects.values_list("key", flat=True)))

    def __len__(self) -> int:
        return LockEntry.objects.count()


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

"""What was read from a bucket lately, in blocks on this machine's disk: bounded, shared by all processes, and never
relied on. A block that does not read back as it was kept is fetched again."""

from __future__ import annotations

import shutil
import sqlite3
import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from typing import Any

import diskcache
from blake3 import blake3

BLOCK_BYTES = 1024 * 1024
_CHECK_BYTES = 16
_IN_MEMORY = 16  # blocks of this process: records that lie side by side are read one by one


class _BytesOnly(diskcache.Disk):  # type: ignore[misc]
    """Bytes and nothing else: a value that must be unpickled is not read."""

    def fetch(self, mode: int, filename: Any, value: Any, read: Any) -> Any:
        """The bytes, or an empty value."""
        return super().fetch(mode, filename, value, read) if mode in (1, 2) else b""


class Fetched:
    """Blocks of objects, the least recently read of which go when ``most_bytes`` are kept."""

    def __init__(self, folder: Path, most_bytes: int) -> None:
        self._folder, self._most = folder, most_bytes
        self._kept: diskcache.Cache | None = None
        self._memory: OrderedDict[tuple[str, int], bytes] = OrderedDict()
        self._lock = threading.Lock()

    def block(self, name: str, number: int, fetch: Callable[[], bytes]) -> bytes:
        """A block of an object, from here or by ``fetch``."""
        key = name, number
        with self._lock:
            if key in self._memory:
                self._memory.move_to_end(key)
                return self._memory[key]
        data = self._stored(name, number)
        if data is None:
            data = fetch()
            kept = blake3(data).digest(_CHECK_BYTES) + data
            self._tried(lambda cache: cache.set(_key(name, number), kept, tag=name))
        with self._lock:
            self._memory[key] = data
            while len(self._memory) > _IN_MEMORY:
                self._memory.popitem(last=False)
        return data

    def forget(self, name: str) -> None:
        """Keep nothing of an object that was removed."""
        with self._lock:
            for key in [one for one in self._memory if one[0] == name]:
                del self._memory[key]
        self._tried(lambda cache: cache.evict(name))

    def volume(self) -> int:
        """How many bytes are kept on disk."""
        return int(self._tried(lambda cache: cache.volume()) or 0)

    def _stored(self, name: str, number: int) -> bytes | None:
        kept = self._tried(lambda cache: cache.get(_key(name, number)))
        if not isinstance(kept, bytes) or len(kept) < _CHECK_BYTES:
            return None
        check, data = kept[:_CHECK_BYTES], kept[_CHECK_BYTES:]
        return data if blake3(data).digest(_CHECK_BYTES) == check else None

    def _tried(self, call: Callable[[diskcache.Cache], Any]) -> Any:
        """What is answered, or None: a full disk, or records of the cache that are damaged, cost time only."""
        try:
            return call(self._cache())
        except (sqlite3.OperationalError, OSError, diskcache.Timeout):
            return None
        except sqlite3.DatabaseError:
            self._kept = None
            shutil.rmtree(self._folder, ignore_errors=True)  # it begins again, empty
            return None

    def _cache(self) -> diskcache.Cache:
        if self._kept is None:
            self._kept = diskcache.Cache(
                str(self._folder),
                size_limit=self._most,
                eviction_policy="least-recently-used",
                tag_index=True,
                disk=_BytesOnly,
            )
        return self._kept


def _key(name: str, number: int) -> str:
    return f"{name}/{number}"

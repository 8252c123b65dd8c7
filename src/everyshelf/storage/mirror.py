"""A bucket that holds segments, as something to read from: a mirror to heal from."""

from __future__ import annotations

from everyshelf.core.content.place import Readable
from everyshelf.storage.bucket import Bucket


class BucketMirror(Readable):
    """The objects of a bucket as they were when it was opened."""

    def __init__(self, bucket: Bucket) -> None:
        self._bucket = bucket
        self._sizes = bucket.names()

    def names(self) -> list[str]:
        return sorted(name for name in self._sizes if "/" not in name)

    def size(self, name: str) -> int:
        if name not in self._sizes:
            raise FileNotFoundError(name)
        return self._sizes[name]

    def read(self, name: str, offset: int, length: int) -> bytes:
        return self._bucket.read(name, offset, length)

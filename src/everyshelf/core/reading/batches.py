"""Files whose kinds are asked for at the same time: so many that a question is worth it, and no more bytes than a pipe
takes in a moment."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

_BATCH_FILES = 256
_BATCH_BYTES = 8 * 1024 * 1024


def batches(files: Sequence[tuple[str, bytes, int]]) -> Iterator[list[tuple[str, bytes, int]]]:
    """The files, given as (name, first bytes, size of all), in batches."""
    batch: list[tuple[str, bytes, int]] = []
    size = 0
    for file in files:
        if batch and (len(batch) >= _BATCH_FILES or size + len(file[1]) > _BATCH_BYTES):
            yield batch
            batch, size = [], 0
        batch.append(file)
        size += len(file[1])
    if batch:
        yield batch

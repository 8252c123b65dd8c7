"""How much memory an answer may take: some for any file, and more for a large one, up to what its process may have.

A file that takes far more than its size lets one expect is broken or made to hurt. What is right for it would be wrong
for a table of a million rows, so the allowance grows with what is read.
"""

from __future__ import annotations

import ctypes
import gc
import os
import sys
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from everyshelf.core.reading.messages import AnyRequest, FileAt, MergeFiles, RunQuery

LEAST_BYTES = 180 * 1024 * 1024  # the process itself takes 50 to 100 MB of it
FOR_EACH_BYTE = 12  # of a parsed document, or a column of a table
FOR_EACH_PACKED_BYTE = 40  # of a workbook or another zip: six megabytes of one are a million cells
HELD_BYTES = 100 * 1024 * 1024  # a process that still holds more after an answer is not kept
RESTED_BYTES = 52 * 1024 * 1024  # a forked process has 47 MB when it is new, most of them shared with others
_TRIMMED_BYTES = 80 * 1024 * 1024
_PAGE_BYTES = os.sysconf("SC_PAGE_SIZE")


def memory_for(request: AnyRequest, most: int) -> int:
    """Bytes that the answer to a request may take, at most ``most``."""
    if most <= LEAST_BYTES:
        return most
    allowed = LEAST_BYTES
    for path in _paths(request):
        for file, size in _files(Path(path)):
            allowed += size * (FOR_EACH_PACKED_BYTE if _is_packed(file) else FOR_EACH_BYTE)
            if allowed >= most:
                return most
    return allowed


def resident(pid: int | str) -> int:
    """Bytes of memory a process (a number, or ``self``) has to itself; 0 where the system does not tell (proc(5))."""
    try:
        fields = Path(f"/proc/{pid}/statm").read_text().split()
    except OSError:
        return 0
    return (int(fields[1]) - int(fields[2])) * _PAGE_BYTES


def give_back() -> None:
    """Give memory that this process holds and does not use back to the system, if it is much."""
    if resident("self") < _TRIMMED_BYTES:
        return
    if (engine := sys.modules.get("everyshelf.core.tables.engine")) is not None:
        engine.close_idle()
    gc.collect()
    if (arrow := sys.modules.get("pyarrow")) is not None:
        arrow.default_memory_pool().release_unused()
    with suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)  # malloc_trim(3): of glibc only


def _files(path: Path) -> Iterator[tuple[Path, int]]:
    """A file, or all files in a folder, with their sizes; none of what is not there, whose reader says so."""
    with suppress(OSError):
        if path.is_dir():
            yield from ((file, file.stat().st_size) for file in path.rglob("*") if file.is_file())
        else:
            yield path, path.stat().st_size


def _is_packed(path: Path) -> bool:
    with suppress(OSError), path.open("rb") as file:
        return file.read(4) == b"PK\x03\x04"
    return False


def _paths(request: AnyRequest) -> Iterator[str]:
    """All files and folders that a request reads."""
    match request:
        case MergeFiles():
            yield from request.files
        case RunQuery():
            yield from (*request.tables.values(), *request.answers.values())
            yield from (path for _, path in request.lists.values())
        case _:
            for name in request.__struct_fields__:
                value = getattr(request, name)
                if isinstance(value, FileAt):
                    yield from (value.path, *value.beside.values())

"""Folders that Git would take for a repository of their own, and whose settings it would then obey.

A bare repository is a folder with ``HEAD`` beside ``objects`` and ``refs``, or beside ``commondir``, which names where
those lie (``gitrepository-layout``). Anyone who runs Git in such a folder, or below it, runs the programs that its
settings name.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from everyshelf.core.errors import RefusedError

_HEAD, _PARTS, _COMMON = "head", {"objects", "refs"}, "commondir"


def repositories_in(paths: Iterable[str]) -> list[str]:
    """The folders, in order, that would be repositories if the files at ``paths`` were written below one folder; the
    empty text for that folder itself. Capitals do not count: on some disks they do not."""
    names: dict[str, set[str]] = defaultdict(set)
    for path in paths:
        folder, rest = "", path
        while rest:
            name, _, rest = rest.partition("/")
            small = name.casefold()
            if small in (_HEAD, _COMMON) or small in _PARTS:
                names[folder].add(small)
            folder = f"{folder}/{name}" if folder else name
    return sorted(f for f, found in names.items() if _HEAD in found and (found >= _PARTS or _COMMON in found))


def require_no_repository(paths: Iterable[str], where: str) -> None:
    """Raise ``RefusedError`` (destination.repository) if files written to ``where`` would be a repository."""
    found = repositories_in(paths)
    if found:
        folder = found[0] or "the folder itself"
        first = f"{found[0]}/HEAD".lstrip("/")
        leave_out = f"everyshelf env change NAME --leave-out '{first}'"
        raise RefusedError(
            f"{folder} would be a Git repository in {where}: {first} beside objects and refs",
            code="destination.repository",
            hint=f"Git would run what its settings name. Leave it out: {leave_out}",
        )

"""Repositories on this machine that the administrator has listed by name; no other folder is offered to Git.

A person's word alone must not make the service read or write a folder as a repository. Nothing that the service itself
writes for shelves can be listed: what a shelf puts there would be one.
"""

from __future__ import annotations

from pathlib import Path

from everyshelf.core.errors import RefusedError
from everyshelf.service.base.config import get_config

_ALL = "*"


def listed_repository(said: str, code: str = "link.place") -> Path:
    """The folder of a repository that is listed; raises ``RefusedError`` with the code."""
    path = Path(said)
    resolved = path.resolve()
    config = get_config()
    written = [*config.places, *config.in_place, config.segments, config.scratch, config.data / "git"]
    overlaps = any(resolved.is_relative_to(w.resolve()) or w.resolve().is_relative_to(resolved) for w in written)
    if not path.is_absolute() or overlaps or not any(_is_listed(resolved, one) for one in config.repositories):
        raise RefusedError(
            f"{said} is not a repository that this service may use",
            code=code,
            pointer="/address",
            hint="Use https:// or ssh://. An administrator can list a folder: EVERYSHELF_REPOSITORIES",
        )
    return resolved


def _is_listed(path: Path, entry: Path) -> bool:
    """``FOLDER/*`` lists every repository directly in a folder."""
    if entry.name == _ALL:
        return path.parent == entry.parent.resolve()
    return path == entry.resolve()

"""What people mean by the names they give on a desk: paths, folders, patterns, and names that only one artifact has."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Iterable
from fnmatch import fnmatchcase
from pathlib import Path

from everyshelf.core.history.names import did_you_mean, file_name, nearest_paths
from everyshelf.desk.errors import DeskError
from everyshelf.desk.states import Item
from everyshelf.desk.store import load_entries

States = Callable[[], list[Item]]


def select(root: Path, items: list[Item], names: Iterable[str], states: States) -> list[Item]:
    """The items people named: by path, by folder, by pattern, or by a name that only one of them has.

    Files that did not change are passed over if something else was named that did: a shell puts all files for
    ``data/*.csv``. Raises ``DeskError`` for a name that nothing has, and if nothing of what was named changed.
    """
    names = list(names)
    if not names:
        return items
    chosen: dict[str, Item] = {}
    unchanged = []
    for name in names:
        found = _named(root, items, name, states)
        if not found:
            unchanged.append(name)
        for item in found:
            chosen[item.path] = item
    if not chosen:
        raise DeskError(
            f"{', '.join(unchanged[:3])} {'has' if len(unchanged) == 1 else 'have'} not changed",
            code="desk.unchanged",
            hint="See everyshelf pending.",
        )
    return list(chosen.values())


def within(root: Path, items: list[Item], names: Iterable[str], states: States) -> list[Item]:
    """The items that were named, in their order; raises ``DeskError`` for a name that no artifact has."""
    names = list(names)
    chosen = {item.path for name in names for item in _named(root, items, name, states)}
    return [item for item in items if item.path in chosen] if names else items


def as_path(root: Path, name: str) -> str:
    """A path as the shelf writes it, wherever on the desk the command runs."""
    given = Path(name)
    for base in (Path.cwd(), root):
        with contextlib.suppress(ValueError, OSError):
            full = given if given.is_absolute() else base / given
            path = Path(os.path.normpath(full)).relative_to(root).as_posix()
            if (root / path).exists() or path in load_entries(root):
                return path
    return name.rstrip("/")


def spoken_name(path: str) -> str:
    """A file name without its last suffix, dashes as spaces: what people say when they speak of an artifact."""
    name = file_name(path)
    return (name.rpartition(".")[0] or name).replace("-", " ").replace("_", " ").casefold()


def _named(root: Path, items: list[Item], name: str, states: States) -> list[Item]:
    """Return the items that a name means; nothing if all of them are unchanged."""
    path = as_path(root, name)
    exact = [i for i in items if path == "." or path in (i.path, i.moved_from) or i.path.startswith(f"{path}/")]
    if exact:
        return exact
    every = states()
    if set(name) & set("*?["):
        here = _here(root)
        matching = [i for i in items if _matches(i.path, name, here)]
        if matching or any(_matches(i.path, name, here) for i in every):
            return matching
    alike = [i for i in items if spoken_name(i.path) == spoken_name(name) or file_name(i.path) == name]
    if len(alike) == 1:
        return alike
    if alike:
        paths = ", ".join(i.path for i in alike[:4])
        raise DeskError(
            f"{name!r} is the name of {len(alike)} artifacts: {paths}",
            code="desk.ambiguous",
            hint="Name it by its path.",
        )
    there = [i for i in every if path in (".", i.path) or i.path.startswith(f"{path}/")]
    stuck = next((i for i in there if i.state == "blocked"), None)
    if stuck is not None:
        raise DeskError(
            f"{stuck.path} is blocked: {stuck.reason}",
            code="desk.blocked",
            hint="See everyshelf pending; the rest can be committed.",
        )
    if there:
        return []
    meant = did_you_mean(nearest_paths(path, [i.path for i in every]))
    raise DeskError(
        f"this desk has no artifact named {name!r}",
        code="desk.unknown",
        hint=f"{meant}See everyshelf pending.",
    )


def _here(root: Path) -> str:
    """The folder in which the command runs, from the desk's root, with a slash; empty at the root or elsewhere."""
    with contextlib.suppress(ValueError):
        inner = Path.cwd().relative_to(root).as_posix()
        return "" if inner == "." else f"{inner}/"
    return ""


def _matches(path: str, pattern: str, here: str) -> bool:
    """Return whether a pattern matches a path below the folder ``here``: the rest of it, or, without a slash, the file
    name."""
    if not path.startswith(here):
        return False
    rest = path[len(here) :]
    return fnmatchcase(rest, pattern) or ("/" not in pattern and fnmatchcase(file_name(path), pattern))

"""The state of every artifact on a desk, without reading files whose length and time stamp are those remembered."""

from __future__ import annotations

import contextlib
import hashlib
import os
import tempfile
import time
from collections import Counter
from collections.abc import Iterable, Iterator, Set
from pathlib import Path
from stat import S_ISREG
from typing import TYPE_CHECKING, Literal

import msgspec

from everyshelf.desk.open_databases import BESIDE, lies_beside, unwritten
from everyshelf.desk.store import FOLDER, Entry, load_entries, save_entries, trusted_mtime

if TYPE_CHECKING:
    from everyshelf.core.kinds.rules import Rules

State = Literal["new", "edited", "moved", "gone", "same", "blocked"]
RULES_FILE = "shelf.toml"
_UNFOLDED = ".unfolded"
_CONTROL = (".git",)  # a desk may lie in a working folder of such a program


class Item(msgspec.Struct, frozen=True, gc=False):
    """An artifact on a desk: its state, its content id now (None where gone or blocked), and the entry it came from."""

    path: str
    state: State
    content: str | None
    size: int
    entry: Entry | None
    moved_from: str = ""
    reason: str = ""
    files: tuple[int, int] | None = None
    """Of a folder kept whole: how many of its files differ, and how many there are."""


def load_rules(root: Path) -> Rules | None:
    """The desk's own ``shelf.toml``, or None. One that is not valid is told as blocked; the one it came from holds."""
    from everyshelf.core.errors import EveryShelfError

    try:
        return _parsed(root / RULES_FILE)
    except (EveryShelfError, OSError):
        pass
    entry = load_entries(root).get(RULES_FILE)
    if entry is None:
        return None
    from everyshelf.desk.bases import Bases

    with Bases(root) as bases, tempfile.TemporaryDirectory() as folder:
        kept = Path(folder, RULES_FILE)
        try:
            return _parsed(kept) if bases.write(entry.content, kept) else None
        except (EveryShelfError, OSError):
            return None


def _parsed(path: Path) -> Rules | None:
    if not path.is_file():
        return None
    from everyshelf.core.kinds.rules import parse_rules

    return parse_rules(path.read_text(encoding="utf-8", errors="replace"))


def _wrong_rules(root: Path) -> str:
    """What is wrong with the desk's ``shelf.toml``; nothing if it is valid, or not there."""
    from everyshelf.core.errors import EveryShelfError

    try:
        _parsed(root / RULES_FILE)
    except EveryShelfError as error:
        return f"{error.message}; the rules before it apply until it is fixed"
    except OSError as error:
        return f"it cannot be read: {error.strerror}"
    return ""


def is_left_out(rules: Rules | None, path: str) -> bool:
    """Whether a pattern leaves out the file or a folder above it."""
    return rules is not None and rules.leaves_out(path)


def find_states(root: Path, blocked: dict[str, str] | None = None) -> list[Item]:
    """Every artifact, by path. Freshly proven time stamps are remembered, so that the next look is quicker.

    ``blocked``: artifacts that something stands in the way of, and what.
    """
    entries = load_entries(root)
    rules = load_rules(root)
    if wrong := _wrong_rules(root):
        blocked = {**(blocked or {}), RULES_FILE: wrong}
    refreshed: dict[str, Entry] = {}
    seen, items = set(), []
    for path, stat, problem in _files(root, rules):
        seen.add(path)
        if blocked and path in blocked:
            items.append(_look(root, path, None, blocked[path], entries.get(path), refreshed))
        else:
            items.append(_look(root, path, stat, problem, entries.get(path), refreshed))
    gone = []
    for path, entry in entries.items():
        if path in seen:
            continue
        # Ignoring is not removing: what is versioned stays so, whatever a pattern says of it.
        left_out = is_left_out(rules, path)
        if left_out:
            items.append(Item(path, "same", entry.content, entry.size, entry))
        else:
            gone.append(Item(path, "gone", None, 0, entry))
    if refreshed:
        with contextlib.suppress(OSError):  # a desk that is read only can be looked at all the same
            save_entries(root, {**entries, **refreshed})
    return sorted(_with_moves(items, gone), key=lambda item: item.path)


def as_artifacts(root: Path, items: list[Item]) -> list[Item]:
    """Items with the files of each folder kept whole told as the one artifact that they are."""
    wholes = find_wholes(root, (item.entry for item in items if item.entry is not None))
    if not wholes:
        return items
    groups: dict[str, list[Item]] = {}
    result = []
    for item in items:
        whole = next((w for w in wholes if item.path.startswith(f"{w}/")), None)
        if whole is None:
            result.append(item)
        else:
            groups.setdefault(whole, []).append(item)
    result += [_as_one(whole, inner) for whole, inner in groups.items()]
    return sorted(result, key=lambda item: item.path)


def find_wholes(root: Path, entries: Iterable[Entry] | None = None) -> list[str]:
    """Folders of which a desk knows that they are kept whole: from the shelf, or from its own rules. ``entries``: those
    of the desk, where they are at hand."""
    wholes = {e.within for e in (load_entries(root).values() if entries is None else entries) if e.within}
    rules = load_rules(root)
    if rules is not None and rules.whole:
        folders = (folder for path, _, _ in _files(root, rules) for folder in _above(path))
        wholes |= {folder for folder in folders if rules.is_whole(folder)}
    return [w for w in sorted(wholes) if not any(w.startswith(f"{other}/") for other in wholes)]


def _above(path: str) -> list[str]:
    parts = path.split("/")
    return ["/".join(parts[:depth]) for depth in range(1, len(parts))]


def _as_one(path: str, inner: list[Item]) -> Item:
    states = {item.state for item in inner}
    blocked = next((item for item in inner if item.state == "blocked"), None)
    state: State = "blocked" if blocked else next(iter(states)) if len(states) == 1 else "edited"
    entry = next((item.entry for item in inner if item.entry is not None), None)
    differing = sum(item.state != "same" for item in inner)
    reason = f"{blocked.path}: {blocked.reason}" if blocked else ""
    came = {item.moved_from.removesuffix(item.path.removeprefix(path)) for item in inner if item.moved_from}
    moved_from = came.pop() if state == "moved" and len(came) == 1 else ""
    if state == "moved" and not moved_from:
        state = "edited"
    size = sum(item.size for item in inner)
    return Item(path, state, None, size, entry, moved_from, reason, (differing, len(inner)))


def _files(root: Path, rules: Rules | None) -> Iterator[tuple[str, os.stat_result | None, str]]:
    """Path, stat and problem of every file that is not ignored; links are not followed."""
    waiting = [""]
    while waiting:
        folder = waiting.pop()
        try:
            found = list(os.scandir(root / folder if folder else root))
        except OSError as error:
            yield folder, None, f"cannot be listed: {error.strerror}"
            continue
        here, names = root / folder, {child.name for child in found}
        if not any(name.endswith(BESIDE) for name in names):
            names = set()  # no database keeps changes of its own here: nothing has to be asked of any file
        for child in found:
            path = f"{folder}/{child.name}" if folder else child.name
            if not _is_text(child.name):
                yield _printable(path), None, "its name is not UTF-8; rename it, or ignore it in shelf.toml"
                continue
            if path == FOLDER or child.name in _CONTROL or (names and lies_beside(child.name, names, here)):
                continue
            if child.is_dir(follow_symlinks=False):
                if child.name.endswith(_UNFOLDED) and os.path.isfile(os.path.join(child.path, "fold.json")):
                    continue  # the parts of the file beside it
                if rules is None or not rules.is_ignored(path + "/"):
                    waiting.append(path)
            elif rules is None or not rules.is_ignored(path):
                yield path, *_stat(child, names, here)


def _is_text(name: str) -> bool:
    if name.isascii():
        return True
    try:
        name.encode()
    except UnicodeEncodeError:
        return False
    return True


def _printable(path: str) -> str:
    """A path whose bytes are not UTF-8 (surrogates, PEP 383), with those bytes as escapes."""
    return path.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")


def _stat(child: os.DirEntry[str], names: Set[str], folder: Path) -> tuple[os.stat_result | None, str]:
    if child.is_symlink():
        return None, "symbolic link: copy the file here, or ignore it in shelf.toml"
    try:
        stat = child.stat(follow_symlinks=False)
    except OSError as error:
        return None, f"cannot be looked at: {error.strerror}"
    if not S_ISREG(stat.st_mode):
        return None, "it is no ordinary file; ignore it in shelf.toml"
    if names and (why := unwritten(child.name, names, folder)):
        return None, why
    return stat, ""


def _look(
    root: Path, path: str, stat: os.stat_result | None, problem: str, entry: Entry | None, refreshed: dict[str, Entry]
) -> Item:
    if stat is None:
        return Item(path, "blocked", None, 0, entry, reason=problem)
    if entry is not None and (entry.size, entry.mtime_ns) == (stat.st_size, stat.st_mtime_ns):
        return Item(path, "same", entry.content, entry.size, entry)
    if entry is None and (wrong := _bad_path(path)):
        return Item(path, "blocked", None, stat.st_size, None, reason=wrong)
    content, wrong = hash_settled(root / path)
    if content is None:
        return Item(path, "blocked", None, stat.st_size, entry, reason=wrong)
    if entry is None:
        return Item(path, "new", content, stat.st_size, None)
    if content != entry.content:
        return Item(path, "edited", content, stat.st_size, entry)
    mtime = trusted_mtime(stat, time.time_ns())
    if mtime != entry.mtime_ns and mtime != -1:
        refreshed[path] = Entry(entry.content, entry.size, mtime, entry.version, entry.kind, entry.within)
    return Item(path, "same", content, stat.st_size, entry)


def hash_settled(file: Path) -> tuple[str | None, str]:
    """The content id of a file that did not change while it was read, else None and what to do."""
    try:
        with file.open("rb") as opened:
            before = os.fstat(opened.fileno())
            digest = hashlib.file_digest(opened, "sha256").hexdigest()
            after = os.fstat(opened.fileno())
    except PermissionError:
        return None, "may not be read; change its rights, or close it where it is open"
    except OSError as error:
        return None, f"cannot be read: {error.strerror}"
    if (before.st_size, before.st_mtime_ns) != (after.st_size, after.st_mtime_ns):
        return None, "is still being written; wait until that is done"
    return digest, ""


def _bad_path(path: str) -> str:
    from everyshelf.core.errors import InvalidError
    from everyshelf.core.history.paths import check_path

    try:
        check_path(path)
    except InvalidError as error:
        return error.message.partition(": ")[2] or error.message
    return ""


def _with_moves(items: list[Item], gone: list[Item]) -> list[Item]:
    """New files with the content of exactly one that is gone have moved."""
    if not gone:
        return items
    new_counts = Counter(i.content for i in items if i.state == "new")
    by_content: dict[str, list[Item]] = {}
    for item in gone:
        assert item.entry is not None
        by_content.setdefault(item.entry.content, []).append(item)
    moved: dict[str, Item] = {}
    for item in items:
        olds = by_content.get(item.content or "", [])
        if item.state == "new" and len(olds) == 1 and new_counts[item.content] == 1:
            moved[item.path] = olds[0]
    left = {old.path for old in moved.values()}
    told = [
        Item(i.path, "moved", i.content, i.size, moved[i.path].entry, moved[i.path].path) if i.path in moved else i
        for i in items
    ]
    return told + [g for g in gone if g.path not in left]

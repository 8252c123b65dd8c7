"""Folders as a Merkle tree whose nodes are content: equal folders are one node, a comparison skips what is equal.

A node is canonical JSON: ``{"level": 0, "entries": [[name, type, id, size], …]}`` sorted by name. A folder of more than
128 entries is cut into blocks where a checksum of a name says so (so the same entries always give the same blocks,
whatever the history), and an index node of level 1 lists ``[last name, block, entries]``; a long index is cut the same
way. One change in a folder of 100,000 rewrites a block of about 128 entries and the short path above it.
"""

from __future__ import annotations

import threading
import zlib
from bisect import bisect_left
from collections import OrderedDict
from collections.abc import Container, Iterable, Iterator, Sequence
from operator import itemgetter
from typing import Annotated, Any, Literal, Protocol

import msgspec
import orjson

from everyshelf.core.content.ids import content_id
from everyshelf.core.content.store import ContentInfo
from everyshelf.core.errors import BrokenError, InvalidError
from everyshelf.core.history.raw_rows import rows_apart
from everyshelf.decoding import json_decoder

EntryType = Literal["artifact", "folder", "whole"]
_LETTER: dict[str, str] = {"artifact": "a", "folder": "f", "whole": "w"}
_TYPE: dict[str, EntryType] = {"a": "artifact", "f": "folder", "w": "whole"}
_BLOCK_ENTRIES = 128
_CACHED_ROWS = 120_000
_MOST_WEIGHTS = 50_000
_MOST_ROWS_MET = 20_000
_ROW_BYTES = 96  # of a usual row; where it matters, rows are counted

Row = tuple[Any, ...]  # of a node, as it is stored


class NodeStore(Protocol):
    """Where nodes are kept: a content store, or what reads one."""

    def read(self, identity: str) -> bytes:
        """The bytes of a node."""

    def put(self, data: bytes) -> ContentInfo:
        """Keep the bytes of a node."""


class Entry(msgspec.Struct, frozen=True):
    """One name in a folder. ``id`` is a content id (of a node for folders), ``size`` bytes (artifacts below it for
    folders, bytes of all files for a folder kept whole)."""

    name: str
    type: EntryType
    id: str
    size: int


class Change(msgspec.Struct, frozen=True):
    """A path whose entry differs between two roots; None where it is not there."""

    path: str
    before: Entry | None
    after: Entry | None


class _Block(msgspec.Struct, frozen=True):
    last: str
    id: str
    count: int


class _Node:
    """A node: its bytes as they are stored, or its rows once they were asked for. Those of a leaf that was read mostly
    never are: two leaves are compared by their bytes (``raw_rows``). Rows become entries or blocks when needed."""

    __slots__ = ("_held", "level", "weight")

    def __init__(self, level: int, held: Sequence[Row] | bytes) -> None:
        self.level = level
        self._held = held
        self.weight = 1 + (len(held) // _ROW_BYTES if isinstance(held, bytes) else len(held))

    @property
    def rows(self) -> Sequence[Row]:
        held = self._held
        if not isinstance(held, bytes):
            return held
        try:
            rows = self._held = _shared(_leaf_of(held).entries)
        except ValueError as error:
            raise _not_a_node(held) from error
        return rows

    @property
    def raw(self) -> bytes:
        held = self._held
        return held if isinstance(held, bytes) else _as_stored(self.level, held)

    @property
    def is_raw(self) -> bool:
        return isinstance(self._held, bytes)

    @property
    def blocks(self) -> list[_Block]:
        return [_Block(*row) for row in self.rows]

    @property
    def entries(self) -> Iterator[Entry]:
        return map(_entry, self.rows)

    def find(self, name: str) -> Row | None:
        """The row of an entry, or of the block in which it would be."""
        place = bisect_left(self.rows, name, key=_first)
        return self.rows[place] if place < len(self.rows) else None


_first = itemgetter(0)
_rows_met: dict[Row, Row] = {}


def _shared(rows: Sequence[Row]) -> list[Row]:
    """The same rows, each kept once: the next version of a folder has all but a few of the one before."""
    if len(_rows_met) > _MOST_ROWS_MET:
        _rows_met.clear()
    return [_rows_met.setdefault(row, row) for row in rows]


def _entry(row: Row) -> Entry:
    name, letter, identity, size = row
    return Entry(name, _TYPE[letter], identity, size)


def _row(entry: Entry) -> Row:
    return entry.name, _LETTER[entry.type], entry.id, entry.size


def _set(rows: dict[str, Row], changed: Iterable[tuple[str, Entry | None]]) -> None:
    """Put entries among rows by name, or take them away where None."""
    for name, entry in changed:
        if entry is None:
            rows.pop(name, None)
        else:
            rows[name] = _row(entry)


def _merged(rows: list[Row], waiting: Sequence[tuple[str, Entry | None]]) -> list[Row]:
    """Sorted rows with entries put among them by name, or taken away where None."""
    if len(waiting) > len(rows) // 8:
        by_name = {row[0]: row for row in rows}
        _set(by_name, waiting)
        return [by_name[name] for name in sorted(by_name)]
    for name, entry in waiting:
        at = bisect_left(rows, name, key=_first)
        here = at + 1 if at < len(rows) and rows[at][0] == name else at
        rows[at:here] = [] if entry is None else [_row(entry)]
    return rows


class _Leaf(msgspec.Struct):
    level: Literal[0]
    entries: list[tuple[str, Literal["a", "f", "w"], str, int]]


class _Index(msgspec.Struct):
    level: Annotated[int, msgspec.Meta(ge=1)]
    entries: list[tuple[str, str, int]]


_LEAF_ENDS = b'"level":0}'
_leaf_of, _index_of = json_decoder(_Leaf).decode, json_decoder(_Index).decode


def _not_a_node(data: bytes) -> BrokenError:
    identity = content_id(data)
    return BrokenError(f"folder node {identity[:12]} is not one", content=identity)


def _as_stored(level: int, rows: Sequence[Row]) -> bytes:
    return orjson.dumps({"entries": rows, "level": level})


_NOTHING = _Node(0, [])


def _leaves_apart(one: _Node, other: _Node) -> tuple[set[Row], set[Row]]:
    """The rows that only one of two leaves has. Of leaves that are not decoded, only what differs is, where the bytes
    tell; of rows, those that both begin and end with are passed over."""
    apart = rows_apart(one.raw, other.raw) if one.is_raw or other.is_raw else None
    if apart is not None:
        return apart
    left, right = one.rows, other.rows
    shorter = min(len(left), len(right))
    start = next((k for k in range(shorter) if left[k] != right[k]), shorter)
    alike = next((k for k in range(shorter - start) if left[-1 - k] != right[-1 - k]), shorter - start)
    old, new = set(left[start : len(left) - alike]), set(right[start : len(right) - alike])
    return old - new, new - old


def _weight(entry: Entry | None) -> int:
    """How many artifacts an entry stands for."""
    return 0 if entry is None else entry.size if entry.type == "folder" else 1


def _is_border(name: str, level: int) -> bool:
    return zlib.crc32(f"{level}/{name}".encode()) % _BLOCK_ENTRIES == 0


class Trees:
    """Reading and writing folder trees in a content store. Roots and nodes are named by content id."""

    def __init__(self, store: NodeStore, cached_rows: int = _CACHED_ROWS) -> None:
        self._store = store
        self._most_rows = cached_rows
        self._cache: OrderedDict[str, _Node] = OrderedDict()
        self._cached_rows = 0
        self._weights: dict[tuple[str, bool], int] = {}  # by node: artifacts, or files, below it
        self._lock = threading.Lock()
        self.empty = self._write_folder([])

    # --- reading -----------------------------------------------------------

    def find(self, root: str, path: str) -> Entry | None:
        """The entry at ``path``, or None."""
        *folders, name = path.split("/")
        at = root
        for folder in folders:
            entry = self._find_name(at, folder)
            if entry is None or entry.type == "artifact":
                return None
            at = entry.id
        return self._find_name(at, name)

    def folder(self, root: str, path: str = "") -> str | None:
        """The node of the folder at ``path``, or None; the root for an empty path."""
        if not path:
            return root
        entry = self.find(root, path)
        return entry.id if entry is not None and entry.type != "artifact" else None

    def entries(self, node: str) -> Iterator[Entry]:
        """The entries of one folder, by name."""
        return map(_entry, self._rows(node))

    def _rows(self, node: str) -> Iterator[Row]:
        """The rows of one folder, by name."""
        loaded = self._node(node)
        if loaded.level == 0:
            yield from loaded.rows
            return
        for block in loaded.rows:
            yield from self._rows(block[1])

    def count(self, root: str) -> int:
        """How many artifacts lie below ``root``, without reading the folders in it; remembered while its nodes are."""
        return self._weight_of(root, files=False)

    def count_files(self, root: str) -> int:
        """How many files lie below ``root``, those of folders kept whole too."""
        return self._weight_of(root, files=True)

    def _weight_of(self, node: str, *, files: bool) -> int:
        known = self._weights.get((node, files))
        if known is None:
            loaded = self._node(node)
            if loaded.level:
                known = sum(self._weight_of(block[1], files=files) for block in loaded.rows)
            else:
                known = sum(self._row_weight(row, files=files) for row in loaded.rows)
            if len(self._weights) > _MOST_WEIGHTS:
                self._weights.clear()
            self._weights[node, files] = known
        return known

    def _row_weight(self, row: Row, *, files: bool) -> int:
        if row[1] == "f":
            return self._weight_of(row[2], files=True) if files else int(row[3])
        return self._weight_of(row[2], files=True) if files and row[1] == "w" else 1

    def page(self, root: str, prefix: str = "", *, start: int = 0, files: bool = False) -> Iterator[tuple[str, Entry]]:
        """As ``walk``, or as ``files``, from number ``start`` on: what lies before it is passed over unread."""
        loaded = self._node(root)
        for row in loaded.rows:
            if start:
                weight = self._weight_of(row[1], files=files) if loaded.level else self._row_weight(row, files=files)
                if start >= weight:
                    start -= weight
                    continue
            if loaded.level:
                yield from self.page(row[1], prefix, start=start, files=files)
            elif row[1] == "f" or (files and row[1] == "w"):
                yield from self.page(row[2], f"{prefix}{row[0]}/", start=start, files=files)
            else:
                yield prefix + row[0], _entry(row)
            start = 0

    def walk(self, root: str, prefix: str = "") -> Iterator[tuple[str, Entry]]:
        """Path and entry of every artifact below ``root``; a folder kept whole is one artifact."""
        for entry in self.entries(root):
            if entry.type == "folder":
                yield from self.walk(entry.id, f"{prefix}{entry.name}/")
            else:
                yield prefix + entry.name, entry

    def files(self, root: str, prefix: str = "") -> Iterator[tuple[str, Entry]]:
        """Path and entry of every file below ``root``, those of folders kept whole too."""
        for path, entry in self.walk(root, prefix):
            if entry.type == "whole":
                yield from self.files(entry.id, f"{path}/")
            else:
                yield path, entry

    def whole_above(self, root: str, path: str) -> tuple[str, Entry] | None:
        """The folder kept whole in which ``path`` lies, with its path; None for what lies in none."""
        parts, at = path.split("/"), root
        for depth, name in enumerate(parts[:-1], 1):
            entry = self._find_name(at, name)
            if entry is None or entry.type == "artifact":
                return None
            if entry.type == "whole":
                return "/".join(parts[:depth]), entry
            at = entry.id
        return None

    def children(self, node: str) -> tuple[list[str], list[Entry]]:
        """The nodes directly below ``node`` (blocks and folders), and the artifacts in it."""
        loaded = self._node(node)
        if loaded.level:
            return [block.id for block in loaded.blocks], []
        entries = list(loaded.entries)
        return [e.id for e in entries if e.type != "artifact"], [e for e in entries if e.type == "artifact"]

    def _find_name(self, node: str, name: str) -> Entry | None:
        loaded = self._node(node)
        row = loaded.find(name)
        while row is not None and loaded.level:
            loaded = self._node(row[1])
            row = loaded.find(name)
        return _entry(row) if row is not None and row[0] == name else None

    def _node(self, node: str) -> _Node:
        with self._lock:
            known = self._cache.get(node)
            if known is not None:
                self._cache.move_to_end(node)
                return known
        return self._remember(node, self._read(node))

    def _remember(self, node: str, loaded: _Node) -> _Node:
        with self._lock:
            if node not in self._cache:
                self._cache[node] = loaded
                self._cached_rows += loaded.weight
            while self._cached_rows > self._most_rows and len(self._cache) > 1:
                self._cached_rows -= self._cache.popitem(last=False)[1].weight
        return loaded

    def _read(self, node: str) -> _Node:
        data = self._store.read(node)
        if data.endswith(_LEAF_ENDS):
            return _Node(0, data)
        try:
            index = _index_of(data)
        except ValueError as error:
            raise _not_a_node(data) from error
        return _Node(index.level, index.entries)

    # --- writing -----------------------------------------------------------

    def apply(self, root: str, changes: dict[str, Entry | None]) -> str:
        """A new root with the entries at these paths set, or removed where None. Empty folders vanish; a folder kept
        whole stays so, whatever changes in it.

        Raises ``InvalidError`` if a path leads through a file that stays.
        """
        return self._apply(root, {tuple(path.split("/")): entry for path, entry in changes.items()}, "")[0]

    def whole(self, name: str, node: str) -> Entry:
        """The entry of a folder kept whole: one artifact, as large as all its files."""
        return Entry(name, "whole", node, sum(entry.size for _, entry in self.files(node)))

    def parted(self, name: str, node: str) -> Entry:
        """The entry of a folder whose files are artifacts of their own."""
        return Entry(name, "folder", node, self.count(node))

    def _apply(self, node: str, changes: dict[tuple[str, ...], Entry | None], prefix: str) -> tuple[str, int]:
        """The new node, and by how many artifacts it holds more than the old one."""
        here: dict[str, Entry | None] = {p[0]: e for p, e in changes.items() if len(p) == 1}
        below: dict[str, dict[tuple[str, ...], Entry | None]] = {}
        for path, entry in changes.items():
            if len(path) > 1:
                below.setdefault(path[0], {})[path[1:]] = entry
        for name, inner in below.items():
            old = here.get(name, self._find_name(node, name))
            if old is not None and old.type == "artifact":
                if all(e is None for e in inner.values()):
                    continue
                raise InvalidError(f"{prefix}{name} is an artifact, so nothing can lie in it", code="path.taken")
            child, more = self._apply(old.id if old is not None else self.empty, inner, f"{prefix}{name}/")
            if child == self.empty:
                here[name] = None
            elif old is not None and old.type == "whole":
                here[name] = self.whole(name, child)
            else:
                here[name] = Entry(name, "folder", child, _weight(old) + more)
        more = sum(_weight(entry) - _weight(self._find_name(node, name)) for name, entry in here.items())
        return self._replace(node, here), more

    def _replace(self, node: str, changed: dict[str, Entry | None]) -> str:
        """The folder ``node`` with some names set or removed, reading only the blocks concerned."""
        loaded = self._node(node)
        leaves = list(self._leaves(loaded, node))
        waiting = sorted(changed.items())
        total = sum(b.count for b in leaves) + len(waiting)
        if loaded.level == 0 or total <= 2 * _BLOCK_ENTRIES:
            return self._write_folder(_merged(list(self._rows(node)), waiting))
        return self._write_blocks(self._recut(leaves, waiting))

    def _leaves(self, loaded: _Node, node: str) -> Iterator[_Block]:
        if loaded.level == 0:
            yield _Block(loaded.rows[-1][0] if loaded.rows else "", node, len(loaded.rows))
        elif loaded.level == 1:
            yield from loaded.blocks
        else:
            for block in loaded.blocks:
                yield from self._leaves(self._node(block.id), block.id)

    def _recut(self, leaves: list[_Block], waiting: list[tuple[str, Entry | None]]) -> list[_Block]:
        """Level-0 blocks after the change; a block that lost its border takes in the next one."""
        result: list[_Block] = []
        carried: list[Row] = []
        at = 0
        for place, block in enumerate(leaves):
            is_last = place == len(leaves) - 1
            end = at
            while end < len(waiting) and (is_last or waiting[end][0] <= block.last):
                end += 1
            if end == at and not carried:
                result.append(block)
                continue
            merged = {row[0]: row for row in carried} | {row[0]: row for row in self._node(block.id).rows}
            _set(merged, waiting[at:end])
            at = end
            blocks, carried = self._cut([merged[n] for n in sorted(merged)], final=is_last)
            result.extend(blocks)
        return result

    def _cut(self, rows: list[Row], *, final: bool) -> tuple[list[_Block], list[Row]]:
        blocks: list[_Block] = []
        open_rows: list[Row] = []
        for row in rows:
            open_rows.append(row)
            if _is_border(row[0], 0):
                blocks.append(self._write_leaf(open_rows))
                open_rows = []
        if final and open_rows:
            blocks.append(self._write_leaf(open_rows))
            open_rows = []
        return blocks, open_rows

    def _write_folder(self, rows: list[Row]) -> str:
        if len(rows) <= _BLOCK_ENTRIES:
            return self._write_leaf(rows).id
        blocks, _ = self._cut(rows, final=True)
        return self._write_blocks(blocks)

    def _write_blocks(self, blocks: list[_Block], level: int = 1) -> str:
        total = sum(b.count for b in blocks)
        if level == 1 and total <= _BLOCK_ENTRIES:
            return self._write_leaf([row for b in blocks for row in self._node(b.id).rows]).id
        while len(blocks) > _BLOCK_ENTRIES:
            upper: list[_Block] = []
            group: list[_Block] = []
            for block in blocks:
                group.append(block)
                if _is_border(block.last, level):
                    upper.append(self._write_index(group, level))
                    group = []
            if group:
                upper.append(self._write_index(group, level))
            blocks, level = upper, level + 1
        return self._write_index(blocks, level).id

    def _write_index(self, blocks: list[_Block], level: int) -> _Block:
        identity = self._put(level, [(b.last, b.id, b.count) for b in blocks])
        return _Block(blocks[-1].last, identity, sum(b.count for b in blocks))

    def _write_leaf(self, rows: list[Row]) -> _Block:
        return _Block(rows[-1][0] if rows else "", self._put(0, rows), len(rows))

    def _put(self, level: int, rows: list[Row]) -> str:
        identity = self._store.put(_as_stored(level, rows)).id
        self._remember(identity, _Node(level, rows))
        return identity

    # --- comparing ---------------------------------------------------------

    def changes(self, before: str, after: str, prefix: str = "") -> Iterator[Change]:
        """Every artifact path that differs, by path; equal folders and equal blocks are never read."""
        if before == after:
            return
        for old, new in self._differing(before, after):
            name = (old or new).name  # type: ignore[union-attr]
            path = prefix + name
            folders = [e.id if e is not None and e.type == "folder" else self.empty for e in (old, new)]
            here_old = old if old is not None and old.type != "folder" else None
            here_new = new if new is not None and new.type != "folder" else None
            if here_old is not None or here_new is not None:
                yield Change(path, here_old, here_new)
            yield from self.changes(folders[0], folders[1], path + "/")

    def _differing(self, before: str, after: str) -> Iterator[tuple[Entry | None, Entry | None]]:
        old, new = self._rows_apart(before, after)
        for name in sorted(old.keys() | new.keys()):
            here, there = old.get(name), new.get(name)
            yield None if here is None else _entry(here), None if there is None else _entry(there)

    def _rows_apart(self, before: str, after: str) -> tuple[dict[str, Row], dict[str, Row]]:
        """By name, the rows that only one of both folders has; blocks that both have are not read."""
        one, other = self._node(before), self._node(after)
        while one.level or other.level:
            if one.level == other.level:
                shared = {row[1] for row in one.rows} & {row[1] for row in other.rows}
                if one.level == 1:
                    return self._leaf_rows_apart(one, other, shared)
                one, other = self._below(one, shared), self._below(other, shared)
            elif one.level > other.level:
                one = self._below(one)
            else:
                other = self._below(other)
        old, new = _leaves_apart(one, other)
        return {row[0]: row for row in old}, {row[0]: row for row in new}

    def _leaf_rows_apart(
        self, one: _Node, other: _Node, shared: Container[str]
    ) -> tuple[dict[str, Row], dict[str, Row]]:
        """As ``_rows_apart``; of blocks that end with the same name only the bytes that differ are decoded."""
        left, right = ({row[0]: row[1] for row in node.rows if row[1] not in shared} for node in (one, other))
        old: set[Row] = set()
        new: set[Row] = set()
        for last in left.keys() | right.keys():
            nodes = [_NOTHING if block is None else self._node(block) for block in (left.get(last), right.get(last))]
            apart = _leaves_apart(*nodes)
            old |= apart[0]
            new |= apart[1]
        return {row[0]: row for row in old - new}, {row[0]: row for row in new - old}

    def _below(self, node: _Node, left_out: Container[str] = ()) -> _Node:
        """What lies one level deeper, as one node, without these blocks."""
        below = [self._node(row[1]) for row in node.rows if row[1] not in left_out]
        return _Node(node.level - 1, [row for one in below for row in one.rows])

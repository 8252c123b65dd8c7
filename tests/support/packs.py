"""Packs and trees of Git put together by hand (``gitformat-pack``), as a program that means harm would."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Sequence


def head(sort: int, size: int) -> bytes:
    """Type and size of an object."""
    byte, size = (sort << 4) | (size & 15), size >> 4
    found = bytearray()
    while size:
        found.append(byte | 0x80)
        byte, size = size & 0x7F, size >> 7
    found.append(byte)
    return bytes(found)


def pack(objects: Sequence[tuple[int, int, bytes]]) -> bytes:
    """A pack of objects: type, size, and the bytes behind them."""
    body = b"PACK" + (2).to_bytes(4, "big") + len(objects).to_bytes(4, "big")
    body += b"".join(head(sort, size) + rest for sort, size, rest in objects)
    return body + hashlib.sha1(body, usedforsecurity=False).digest()


def whole(objects: Sequence[tuple[str, bytes]]) -> bytes:
    """A pack of objects as they are: kind and bytes."""
    sorts = {"commit": 1, "tree": 2, "blob": 3, "tag": 4}
    return pack([(sorts[kind], len(data), zlib.compress(data)) for kind, data in objects])


def object_id(kind: str, data: bytes) -> str:
    """The id of an object."""
    return hashlib.sha1(b"%s %d\0" % (kind.encode(), len(data)) + data, usedforsecurity=False).hexdigest()


def number(value: int) -> bytes:
    """Seven bits a byte, the lowest first."""
    found = bytearray()
    while value >= 0x80:
        found.append((value & 0x7F) | 0x80)
        value >>= 7
    return bytes([*found, value])


def delta_bomb(copies: int = 1_000_000) -> bytes:
    """A pack of some kilobytes: a blob of 64 kB, and a delta that copies it so often that it makes gigabytes."""
    large = 0xFFFF
    base = zlib.compress(bytes(large), 9)
    delta = number(large) + number(large * copies) + b"\xb0\xff\xff" * copies  # from the beginning, 65,535 bytes
    first = head(3, large) + base
    back = bytearray([len(first) & 0x7F])
    left = len(first) >> 7
    while left:
        left -= 1
        back.insert(0, 0x80 | (left & 0x7F))
        left >>= 7
    return pack([(3, large, base), (6, len(delta), bytes(back) + zlib.compress(delta, 9))])


def tree(rows: Sequence[tuple[str, str, str]]) -> bytes:
    """A tree of rows: mode, name, id."""
    return b"".join(f"{mode} {name}\0".encode() + bytes.fromhex(identity) for mode, name, identity in rows)


def commit(tree_id: str, message: str = "A commit", parents: Sequence[str] = ()) -> bytes:
    """A commit of nobody in particular."""
    lines = [f"tree {tree_id}", *(f"parent {one}" for one in parents)]
    lines += [f"{role} Purser <purser@skerry.example> 1700000000 +0000" for role in ("author", "committer")]
    return "\n".join([*lines, "", message]).encode()


def tree_bomb(levels: int, names: int) -> list[tuple[str, bytes]]:
    """The objects of a commit whose tree stands for ``names ** levels`` files; the commit is the last."""
    blob = b"boom\n"
    objects: list[tuple[str, bytes]] = [("blob", blob)]
    below, mode = object_id("blob", blob), "100644"
    for _ in range(levels):
        data = tree([(mode, f"n{number}", below) for number in range(names)])
        objects.append(("tree", data))
        below, mode = object_id("tree", data), "40000"
    objects.append(("commit", commit(below)))
    return objects


def deep(levels: int) -> list[tuple[str, bytes]]:
    """The objects of a commit with one file ``levels`` folders deep; the commit is the last."""
    return tree_bomb(levels, 1)


def push_body(ref: str, before: str, after: str, data: bytes) -> bytes:
    """What ``git push`` sends for one ref (``gitprotocol-pack``)."""
    line = f"{before} {after} {ref}\0report-status side-band-64k".encode()
    return b"%04x" % (len(line) + 4) + line + b"0000" + data

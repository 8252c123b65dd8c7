"""A project of script modules in a compound file, as office files hold it: MS-CFB around MS-OVBA, as small as both allow.

Only what a reader needs is written: one directory of streams in short sectors, and for each module its source in the
compression of MS-OVBA 2.4.1, in chunks that are kept as they are.
"""

from __future__ import annotations

import struct

_SECTOR, _SHORT, _CHUNK = 512, 64, 4096
_FREE, _END, _FAT = 0xFFFFFFFF, 0xFFFFFFFE, 0xFFFFFFFD
_MAGIC = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"


def project(modules: dict[str, str]) -> bytes:
    """The compound file of a project with these modules, name to source."""
    streams = {
        f"VBA/{name}": packed(f'Attribute VB_Name = "{name}"\r\n{code}'.encode("cp1252"))
        for name, code in modules.items()
    }
    names = "".join(f"Module={name}\r\n" for name in modules)
    streams["VBA/_VBA_PROJECT"] = b"\xcc\x61\xff\xff\0\0\0"
    streams["VBA/dir"] = packed(_directory(list(modules)))
    streams["PROJECT"] = f'ID="{{00000000-0000-0000-0000-000000000000}}"\r\n{names}Name="Project"\r\n'.encode("cp1252")
    return _compound(streams)


def packed(data: bytes) -> bytes:
    """MS-OVBA 2.4.1: a signature, then chunks of 4096 bytes that are kept as they are; blanks fill the last."""
    out = [b"\x01"]
    for at in range(0, max(len(data), 1), _CHUNK):
        out.append(struct.pack("<H", 0x3000 | (_CHUNK + 2 - 3)) + data[at : at + _CHUNK].ljust(_CHUNK, b"\n"))
    return b"".join(out)


def _directory(names: list[str]) -> bytes:
    """MS-OVBA 2.3.4.2: what the project is called, and where each module's source begins in its stream (at 0)."""

    def record(number: int, content: bytes) -> bytes:
        return struct.pack("<HI", number, len(content)) + content

    def both(number: int, wide: int, text: str) -> bytes:
        return record(number, text.encode("cp1252")) + record(wide, text.encode("utf-16-le"))

    out = [
        record(0x01, struct.pack("<I", 1)),
        record(0x02, struct.pack("<I", 0x409)),
        record(0x14, struct.pack("<I", 0x409)),
        record(0x03, struct.pack("<H", 1252)),
        record(0x04, b"Project"),
        both(0x05, 0x40, ""),
        both(0x06, 0x3D, ""),
        record(0x07, struct.pack("<I", 0)),
        record(0x08, struct.pack("<I", 0)),
        struct.pack("<HIIH", 0x09, 4, 1, 1),
        both(0x0C, 0x3C, ""),
        record(0x0F, struct.pack("<H", len(names))),
        record(0x13, struct.pack("<H", 0xFFFF)),
    ]
    for name in names:
        out += [
            both(0x19, 0x47, name),
            both(0x1A, 0x32, name),
            both(0x1C, 0x48, ""),
            record(0x31, struct.pack("<I", 0)),
            record(0x1E, struct.pack("<I", 0)),
            record(0x2C, struct.pack("<H", 0xFFFF)),
            record(0x21, b""),
            record(0x2B, b""),
        ]
    return b"".join([*out, record(0x10, b"")])


# --- the compound file (MS-CFB 3) --------------------------------------------------


def _compound(streams: dict[str, bytes]) -> bytes:
    """Streams of 4096 bytes and more in sectors, shorter ones in short sectors that lie in one stream together."""
    short = {n: d for n, d in streams.items() if len(d) < 4096}
    long = {n: d for n, d in streams.items() if len(d) >= 4096}
    starts: dict[str, int] = {}
    mini, mini_fat = _chained(short, _SHORT, starts)
    entries = _entries(streams, starts, len(mini))
    folder = b"".join(entries)
    parts: dict[str, bytes] = {"folder": folder, "mini fat": _table(mini_fat), "mini": mini, **long}
    places: dict[str, int] = {}
    body, fat = _chained(parts, _SECTOR, places)
    # The allocation table comes last; it takes in itself.
    sectors = -(-(len(fat) + 1) * 4 // _SECTOR)
    first = len(fat)
    fat += [_FAT] * sectors
    starts |= {name: places[name] for name in long}
    folder = b"".join(_entries(streams, starts, len(mini), places["mini"]))
    at = places["folder"] * _SECTOR
    body = (
        body[:at]
        + folder.ljust(-(-len(folder) // _SECTOR) * _SECTOR, b"\0")
        + body[at + -(-len(folder) // _SECTOR) * _SECTOR :]
    )
    head = _MAGIC + bytes(16) + struct.pack("<HHHHH", 0x3E, 3, 0xFFFE, 9, 6) + bytes(6)
    head += struct.pack("<IIIIIIIII", 0, sectors, places["folder"], 0, 4096, places["mini fat"], 1, _END, 0)
    head += struct.pack(f"<{109}I", *[*range(first, first + sectors), *[_FREE] * (109 - sectors)])
    return head + body + _table(fat, sectors * _SECTOR // 4)


def _chained(parts: dict[str, bytes], size: int, starts: dict[str, int]) -> tuple[bytes, list[int]]:
    """All parts one after the other in sectors of that size, and which sector follows which."""
    body: list[bytes] = []
    fat: list[int] = []
    for name, data in parts.items():
        count = -(-len(data) // size)
        starts[name] = len(fat) if count else _END
        fat += [*range(len(fat) + 1, len(fat) + count), _END] if count else []
        body.append(data.ljust(count * size, b"\0"))
    return b"".join(body), fat


def _table(fat: list[int], count: int | None = None) -> bytes:
    count = count or -(-len(fat) // (_SECTOR // 4)) * (_SECTOR // 4)
    return struct.pack(f"<{count}I", *fat, *[_FREE] * (count - len(fat)))


def _entries(streams: dict[str, bytes], starts: dict[str, int], mini: int, mini_start: int = 0) -> list[bytes]:
    """The root, the folder VBA, its streams as one chain to the right, and what lies beside the folder."""
    inside = sorted((n for n in streams if "/" in n), key=_order)
    beside = [n for n in streams if "/" not in n]
    numbers = {name: k for k, name in enumerate([*inside, *beside], 2)}
    entries = [_entry("Root Entry", 5, child=1, start=mini_start, size=mini)]
    entries.append(_entry("VBA", 1, child=numbers[inside[0]], right=numbers[beside[0]] if beside else _FREE))
    for group in (inside, beside):
        for k, name in enumerate(group):
            right = numbers[group[k + 1]] if k + 1 < len(group) else _FREE
            entries.append(
                _entry(name.rpartition("/")[2], 2, right=right, start=starts.get(name, 0), size=len(streams[name]))
            )
    return entries


def _order(name: str) -> tuple[int, str]:
    last = name.rpartition("/")[2].upper()
    return len(last), last


def _entry(name: str, sort: int, *, child: int = _FREE, right: int = _FREE, start: int = 0, size: int = 0) -> bytes:
    wide = name.encode("utf-16-le") + b"\0\0"
    head = wide.ljust(64, b"\0") + struct.pack("<HBBIII", len(wide), sort, 1, _FREE, right, child)
    return head + bytes(36) + struct.pack("<IQ", start, size)

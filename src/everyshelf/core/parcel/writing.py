"""Packing."""

from __future__ import annotations

import hashlib
import zipfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import IO, Any

import orjson

from everyshelf.core.history.paths import check_path

_EPOCH = (1980, 1, 1, 0, 0, 0)  # the earliest a zip can say: the time of packing does not belong into it
_JSON = orjson.OPT_INDENT_2 | orjson.OPT_SORT_KEYS
_LEVEL = 6


@dataclass(frozen=True)
class Packed:
    """One artifact to be packed: its path, its bytes (asked for once), and what is known of it (JSON)."""

    path: str
    read: Callable[[], Iterator[bytes]]
    about: Mapping[str, Any] = field(default_factory=dict)


def pack(target: IO[bytes], name: str, artifacts: Iterable[Packed], about: Mapping[str, Any]) -> dict[str, str]:
    """Write a parcel called ``name`` into ``target``; gives path -> SHA-256 of what was packed.

    ``about`` is what ``packed.json`` says; it holds no time of the packing. Raises ``InvalidError`` for a path that no
    parcel can hold.
    """
    check_path(name)
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=_LEVEL) as archive:
        manifest: dict[str, str] = {}
        tags: dict[str, str] = {}
        size = 0
        for one in sorted(artifacts, key=lambda a: a.path):
            path = check_path(one.path)
            manifest[path], length = _stream(archive, f"{name}/data/{path}", one.read())
            size += length
            tag = f"about/{path}.json"
            tags[tag] = _write(archive, f"{name}/{tag}", orjson.dumps(dict(one.about), option=_JSON) + b"\n")
        info = {"Payload-Oxum": f"{size}.{len(manifest)}", **_info(about)}
        files = {
            "bag-info.txt": "".join(f"{key}: {value}\n" for key, value in info.items()).encode(),
            "bagit.txt": b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n",
            "manifest-sha256.txt": listed({f"data/{p}": digest for p, digest in manifest.items()}),
            "packed.json": orjson.dumps(dict(about), option=_JSON) + b"\n",
        }
        for file, data in sorted(files.items()):
            tags[file] = _write(archive, f"{name}/{file}", data)
        _write(archive, f"{name}/tagmanifest-sha256.txt", listed(tags))
    return manifest


def _info(about: Mapping[str, Any]) -> dict[str, str]:
    """RFC 8493, 2.2.2: labels people know, values on one line."""
    known = {"External-Identifier": about.get("commit"), "External-Description": about.get("summary")}
    known["Source-Organization"] = about.get("shelf")
    return {label: " ".join(str(value).split()) for label, value in known.items() if value}


def listed(digests: Mapping[str, str]) -> bytes:
    """A manifest: digest, two blanks, path; line ends and per cents in paths are encoded (RFC 8493, 2.1.3)."""
    return "".join(f"{digest}  {escaped(path)}\n" for path, digest in sorted(digests.items())).encode()


def escaped(path: str) -> str:
    """A path as a manifest writes it."""
    return path.replace("%", "%25").replace("\n", "%0A").replace("\r", "%0D")


def _entry(name: str) -> zipfile.ZipInfo:
    entry = zipfile.ZipInfo(name, _EPOCH)
    entry.compress_type = zipfile.ZIP_DEFLATED
    entry.external_attr = 0o644 << 16
    entry.create_system = 3
    return entry


def _write(archive: zipfile.ZipFile, name: str, data: bytes) -> str:
    archive.writestr(_entry(name), data, compresslevel=_LEVEL)
    return hashlib.sha256(data).hexdigest()


def _stream(archive: zipfile.ZipFile, name: str, pieces: Iterator[bytes]) -> tuple[str, int]:
    digest, size = hashlib.sha256(), 0
    with archive.open(_entry(name), "w", force_zip64=True) as file:
        for piece in pieces:
            file.write(piece)
            digest.update(piece)
            size += len(piece)
    return digest.hexdigest(), size

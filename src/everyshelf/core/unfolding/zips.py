"""Unfolding and folding zip archives (APPNOTE 6.3.10): members become files, the archive without their data the frame.

A member that was not edited goes back as the bytes it was, so that an archive nobody touched is the same again. No
name leads out of the folder; what cannot be unpacked safely stays in the frame and a note says so.
"""

from __future__ import annotations

import base64
import hashlib
import io
import struct
import zipfile
import zlib
from pathlib import PurePosixPath

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.modules import modules_of_project
from everyshelf.core.unfolding.model import MANIFEST, Manifest, Names, Piece

_MOST_BYTES = 400 * 1024 * 1024
_MOST_MEMBERS = 20_000
_MOST_RATIO, _ALWAYS_BYTES = 200, 16 * 1024 * 1024
_FRAME = "fold/frame.zip-part"
_MODULES = "modules/"
_LOCAL_HEADER = struct.Struct("<4s5H3I2H")
_BROKEN = (zipfile.BadZipFile, NotImplementedError, RuntimeError, zlib.error, struct.error, EOFError, OSError)
_LEVELS = (6, 9, 1, 5, 8, 7, 4, 3, 2)


def unfold_zip(name: str, data: bytes, kind: str) -> tuple[Manifest, dict[str, bytes], list[str]]:
    """The manifest, all files and notes; raises ``UnreadableError``."""
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
    except (zipfile.BadZipFile, NotImplementedError, ValueError) as error:
        raise UnreadableError(f"no zip archive: {error}") from error
    infos = archive.infolist()
    size = sum(i.file_size for i in infos)
    if len(infos) > _MOST_MEMBERS or size > _MOST_BYTES:
        raise UnreadableError(f"it would unfold to more than {_MOST_MEMBERS} files or {_MOST_BYTES >> 20} MB")
    if size > _MOST_RATIO * len(data) + _ALWAYS_BYTES:
        raise UnreadableError(f"its {len(data):,} bytes would unfold to {size:,}")
    files: dict[str, bytes] = {}
    pieces: dict[str, Piece] = {}
    notes: list[str] = []
    holes: list[tuple[int, int, str]] = []
    names = Names()
    places: dict[str, int] = {}
    for place, info in enumerate(infos):
        if info.is_dir() or info.file_size == 0:
            continue
        read = _member(archive, info, data)
        if isinstance(read, str):
            notes.append(f"{info.filename[:80]!r} {read}; it stays folded")
            continue
        content, start, end = read
        file = _file_name(info.filename, names)
        if file != f"members/{info.filename}":
            notes.append(f"{info.filename[:80]!r} is {file} here")
        files[file] = content
        pieces[file] = _piece(content, data[start:end], info)
        places[file] = place
        holes.append((start, end, file))
    files |= _modules(files, names)
    frame, offsets = _frame(data, holes)
    files[_FRAME] = frame
    modules = {f: hashlib.sha256(files[f]).hexdigest() for f in files if f.startswith(_MODULES)}
    details = {"holes": offsets, "members": places, "modules": modules}
    return Manifest(name, kind, "zip", _FRAME, "", "", pieces, details=details), files, notes


def _modules(files: dict[str, bytes], names: Names) -> dict[str, bytes]:
    """Script modules out of the compressed projects of office files, to be read; projects go back as they are."""
    found: dict[str, bytes] = {}
    for file, content in files.items():
        if file.lower().endswith("vbaproject.bin"):
            modules, _ = modules_of_project(content)
            for name, source in modules.items():
                found[names.make(_MODULES, PurePosixPath(name).stem, ".bas")] = source.encode()
    return found


def _member(archive: zipfile.ZipFile, info: zipfile.ZipInfo, data: bytes) -> tuple[bytes, int, int] | str:
    """Content and where its compressed bytes stand; or in words why it cannot be unpacked."""
    if info.flag_bits & 0x1:
        return "is encrypted"
    try:
        content = archive.read(info)
        header = _LOCAL_HEADER.unpack_from(data, info.header_offset)
    except _BROKEN as error:
        return f"cannot be unpacked ({type(error).__name__})"
    start = info.header_offset + _LOCAL_HEADER.size + header[9] + header[10]
    return content, start, start + info.compress_size


def _file_name(member: str, names: Names) -> str:
    path = PurePosixPath(member.replace("\\", "/"))
    parts = [p for p in path.parts if p not in ("/", ".", "..")]
    safe = "/".join(parts)
    is_plain = safe == member and all(ord(c) >= 32 and c not in '<>:"|?*' for c in member) and len(member) < 200
    if is_plain and not names.is_taken(f"members/{member}"):
        return names.take(f"members/{member}")
    last = parts[-1] if parts else "member"
    suffix = PurePosixPath(last).suffix
    return names.make("members/", PurePosixPath(last).stem, suffix if suffix.isascii() and len(suffix) < 12 else "")


def _piece(content: bytes, packed: bytes, info: zipfile.ZipInfo) -> Piece:
    digest = hashlib.sha256(content).hexdigest()
    if info.compress_type == zipfile.ZIP_STORED:
        return Piece("member", digest, style="stored")
    if info.compress_type == zipfile.ZIP_DEFLATED:
        for level in _LEVELS:
            if len(content) > 4 * 1024 * 1024 and level != 6:
                break
            if _deflated(content, level) == packed:
                return Piece("member", digest, style=f"deflated {level}")
    return Piece("member", digest, style="kept", kept=base64.b64encode(packed).decode())


def _deflated(content: bytes, level: int) -> bytes:
    packer = zlib.compressobj(level, zlib.DEFLATED, -15)
    return packer.compress(content) + packer.flush()


def _frame(data: bytes, holes: list[tuple[int, int, str]]) -> tuple[bytes, list[list[int | str]]]:
    """The archive without its members' data, and at which places of that they were."""
    out, at, offsets = [], 0, []
    length = 0
    for start, end, file in sorted(holes):
        if start < at:
            raise UnreadableError("its members overlap each other")
        out.append(data[at:start])
        length += start - at
        offsets.append([length, file])
        at = end
    out.append(data[at:])
    return b"".join(out), offsets  # type: ignore[return-value]


# --- folding ---------------------------------------------------------------------


def fold_zip(manifest: Manifest, files: dict[str, bytes]) -> tuple[bytes, list[str]]:
    """The archive's bytes and notes; raises ``InvalidError`` where a member is missing."""
    frame = files.get(manifest.frame)
    if frame is None:
        raise InvalidError(f"{manifest.frame} is missing", code="fold.missing", hint="Unfold the file again.")
    missing = [f for f in manifest.pieces if f not in files]
    added = sorted(f for f in files if f.startswith("members/") and f not in manifest.pieces)
    extra = [f for f in sorted(files) if not f.startswith(("members/", "fold/", _MODULES)) and f != MANIFEST]
    notes = [f"{f} is no member and was left out" for f in extra]
    told = manifest.details.get("modules", {})
    for file in sorted(files):
        if file.startswith(_MODULES) and hashlib.sha256(files[file]).hexdigest() != told.get(file):
            notes.append(f"{file} is there to be read; edit modules in their own program")
    same = {f: hashlib.sha256(files[f]).hexdigest() == p.sha256 for f, p in manifest.pieces.items() if f not in missing}
    original = _original(manifest, frame, files, {f for f, is_same in same.items() if is_same})
    if not missing and not added and all(same.values()):
        return original, notes
    return _rewritten(manifest, original, files, missing, added), notes


def _original(manifest: Manifest, frame: bytes, files: dict[str, bytes], same: set[str]) -> bytes:
    """The archive as it was, edited members as empty as their headers allow."""
    out, at = [], 0
    for offset, file in manifest.details["holes"]:
        out.append(frame[at:offset])
        piece = manifest.pieces[file]
        if piece.kept is not None:
            out.append(base64.b64decode(piece.kept))
        elif file in same:
            out.append(files[file] if piece.style == "stored" else _deflated(files[file], int(piece.style.split()[1])))
        else:
            out.append(b"\0" * _packed_size(frame, offset))
        at = offset
    return b"".join([*out, frame[at:]])


def _packed_size(frame: bytes, offset: int) -> int:
    """What the local header right before the hole says of the packed size."""
    start = frame.rfind(b"PK\x03\x04", 0, offset)
    return int(_LOCAL_HEADER.unpack_from(frame, start)[7]) if start >= 0 else 0


def _rewritten(
    manifest: Manifest, original: bytes, files: dict[str, bytes], missing: list[str], added: list[str]
) -> bytes:
    """A new archive: the same members in the same order with the same time stamps and attributes, edits packed anew."""
    places = {place: file for file, place in manifest.details["members"].items()}
    try:
        old = zipfile.ZipFile(io.BytesIO(original))
    except zipfile.BadZipFile as error:
        raise InvalidError(
            f"{manifest.frame} is damaged: {error}", code="fold.manifest", hint="Unfold it again."
        ) from error
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as new:
        new.comment = old.comment
        for place, info in enumerate(old.infolist()):
            file = places.get(place)
            if file in missing:
                continue
            content = files[file] if file is not None else b"" if info.is_dir() else old.read(info)
            copy = zipfile.ZipInfo(info.filename, info.date_time)
            copy.compress_type = info.compress_type if info.compress_type in (0, 8) else 8
            copy.external_attr, copy.create_system, copy.comment = info.external_attr, info.create_system, info.comment
            new.writestr(copy, content)
        for file in added:
            copy = zipfile.ZipInfo(file.removeprefix("members/"), (1980, 1, 1, 0, 0, 0))
            copy.compress_type, copy.external_attr = 8, 0o644 << 16
            new.writestr(copy, files[file])
    return out.getvalue()

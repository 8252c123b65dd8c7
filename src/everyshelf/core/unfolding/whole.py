"""Unfolding and folding any file: by its format, checked against the original before anything is handed out."""

from __future__ import annotations

import hashlib

import msgspec

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.kinds.reading import parse_tree, recognise_file
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.unfolding.databases import MAGIC, fold_database, unfold_database
from everyshelf.core.unfolding.model import MANIFEST, Folded, Manifest, Unfolded, read_manifest
from everyshelf.core.unfolding.texts import fold_text, unfold_text
from everyshelf.core.unfolding.zips import fold_zip, unfold_zip

# Kinds whose files hide parts: these are unfolded on a desk that asks for it.
UNFOLDED_KINDS = frozenset({"app", "tests", "notebook", "archive", "database", "document", "spreadsheet"})
_TEXT_FORMS = ("json", "yaml", "xml")


def unfold(name: str, data: bytes, *, rules: Rules | None = None, kind: str | None = None) -> Unfolded:
    """The file as readable parts; raises ``InvalidError`` where there is nothing to unfold or it cannot be read."""
    found = recognise_file(name, data, rules or Rules(), kind)
    try:
        if data.startswith(b"PK\x03\x04"):
            manifest, files, notes = unfold_zip(name, data, found.kind)
        elif data.startswith(MAGIC):
            manifest, files, notes = unfold_database(name, data, found.kind)
        elif found.format in _TEXT_FORMS:
            encoding = _encoding(data, found.format)
            manifest, files = unfold_text(name, data, found.kind, found.format, encoding)
            notes = []
        else:
            raise UnreadableError("only JSON, YAML, XML, zip and SQLite files hide parts that can be unfolded")
        if not manifest.pieces:
            raise UnreadableError("it has neither parts nor texts of several lines that a file of their own would help")
    except (UnreadableError, RecursionError) as error:
        why = str(error) or "it is nested too deeply"
        hint = "It can be read as it is; see everyshelf outline."
        raise InvalidError(f"{name} cannot be unfolded: {why}", code="unfold.impossible", hint=hint) from error
    manifest.details["frame"] = hashlib.sha256(files[manifest.frame]).hexdigest()
    files[MANIFEST] = msgspec.json.format(msgspec.json.encode(manifest), indent=1) + b"\n"
    # Trust is good: what does not come back byte for byte is not handed out.
    again = fold(files)
    if again.data != data:
        hint = "Keep it folded; and tell who keeps this service, with the file."
        raise InvalidError(f"{name} would not fold back to the same bytes", code="unfold.impossible", hint=hint)
    return Unfolded(files, notes)


def _encoding(data: bytes, form: str) -> str:
    """The text's encoding, byte-order mark included in the text itself."""
    if form == "xml":
        text = data.removeprefix(b"\xef\xbb\xbf")
        declared = text[:200].partition(b"?>")[0].lower() if text.startswith(b"<?xml") else b""
        if b"encoding" in declared and b"utf-8" not in declared:
            raise UnreadableError("only XML in UTF-8 can be unfolded")
        return "utf-8"
    found = decode(data).encoding.lower().replace("_", "-")
    for mark, encoding in ((b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return encoding
    return "utf-8" if found.startswith(("utf-8", "ascii")) else found


def fold(files: dict[str, bytes]) -> Folded:
    """The one file again; raises ``InvalidError`` where a piece is missing or the whole could not be read any more."""
    manifest = read_manifest(files)
    if manifest.form == "zip":
        data, notes = fold_zip(manifest, files)
        return Folded(manifest.name, data, tuple(notes))
    if manifest.form == "sqlite":
        data, notes = fold_database(manifest, files)
        return Folded(manifest.name, data, tuple(notes))
    if manifest.form not in _TEXT_FORMS:
        raise InvalidError(f"{MANIFEST} has an unknown form {manifest.form!r}", code="fold.manifest")
    data, notes = fold_text(manifest, files)
    _check(manifest, data)
    return Folded(manifest.name, data, tuple(notes))


def _check(manifest: Manifest, data: bytes) -> None:
    """Nothing that its own readers refuse is handed out."""
    found = recognise_file(manifest.name, data, Rules(), manifest.kind)
    try:
        parse_tree(data, found)
    except (UnreadableError, RecursionError) as error:
        hint = "Look at the files edited last; nothing was written."
        raise InvalidError(f"folded, {manifest.name} cannot be read: {error}", code="fold.syntax", hint=hint) from error

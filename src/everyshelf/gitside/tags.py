"""Tags: on the shelf a name with a note and perhaps a selection, in Git an annotated tag or a bare name."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime

import msgspec

from everyshelf.core.errors import BrokenError
from everyshelf.decoding import from_json
from everyshelf.gitside.idents import decoded, ident_line, parse_ident
from everyshelf.gitside.texts import as_raw, as_text

FORM = 1
_SELECTED = "Selection: "
_MOST_NESTED = 10
_FIELD = re.compile(rb"^(object|type|tag|tagger) (.*)$")


@dataclass(frozen=True)
class ShelfTag:
    """A tag of the shelf; ``selection``: paths, or None for everything."""

    name: str
    note: str
    author: str
    time: datetime
    selection: tuple[str, ...] | None = None


class TagResidue(msgspec.Struct, omit_defaults=True, frozen=True):
    """``light``: the ref names the commit itself. ``objects``: the tag objects as written, the outermost first."""

    form: int = FORM
    light: bool = False
    objects: tuple[str, ...] = ()


@dataclass(frozen=True)
class FetchedTag:
    """A tag of Git, the commit it stands for, and what to keep for Git (empty: nothing)."""

    tag: ShelfTag
    commit: str
    residue: bytes


Put = Callable[[str, bytes], str]
Read = Callable[[str], tuple[str, bytes]]


def tag_to_git(tag: ShelfTag, commit: str, residue: bytes, put: Put) -> str:
    """Write what the ref of a tag names, and return its id."""
    kept = _decoded(residue) if residue else TagResidue()
    if kept.light:
        return commit
    if kept.objects:
        return [put("tag", as_raw(text)) for text in reversed(kept.objects)][-1]
    return put("tag", _encoded(tag, commit))


def tag_from_git(name: str, identity: str, read: Read) -> FetchedTag | None:
    """The tag that a ref ``refs/tags/NAME`` to ``identity`` is; None where it leads to no commit."""
    objects: list[bytes] = []
    fields: dict[bytes, bytes] = {}
    message, at = b"", identity
    kind, data = read(at)
    while kind == "tag" and len(objects) < _MOST_NESTED:
        objects.append(data)
        head, _, text = data.partition(b"\n\n")
        matches = map(_FIELD.match, head.split(b"\n"))
        found: dict[bytes, bytes] = {m[1]: m[2] for m in matches if m is not None}
        if len(objects) == 1:
            fields, message = found, text
        at = found.get(b"object", b"").decode("ascii", "replace")
        kind, data = read(at)
    if kind != "commit":
        return None
    if not objects:
        who = _committer(data)
        tag = ShelfTag(name, "", who[0], who[1])
        return FetchedTag(tag, at, msgspec.json.encode(TagResidue(light=True)))
    ident = parse_ident(fields.get(b"tagger", b""))
    note, selection = _parsed(decoded(message, "utf-8").replace("\0", "\ufffd"))
    tag = ShelfTag(name, "" if note == name else note, ident.name, ident.moment, selection)
    if len(objects) == 1 and _encoded(tag, at) == objects[0]:
        return FetchedTag(tag, at, b"")
    return FetchedTag(tag, at, msgspec.json.encode(TagResidue(objects=tuple(map(as_text, objects)))))


def _encoded(tag: ShelfTag, commit: str) -> bytes:
    head = f"object {commit}\ntype commit\ntag {tag.name}\ntagger ".encode()
    lines = [tag.note or tag.name]
    if tag.selection is not None:
        lines += ["", *(_SELECTED + (p if p.isprintable() else json.dumps(p)) for p in tag.selection)]
    return head + ident_line(tag.author, tag.time) + b"\n\n" + "\n".join(lines).encode() + b"\n"


def _parsed(message: str) -> tuple[str, tuple[str, ...] | None]:
    text, gap, block = message.removesuffix("\n").rpartition("\n\n")
    rows = block.split("\n") if gap else []
    if not rows or not all(row.startswith(_SELECTED) for row in rows):
        return message.strip("\n"), None
    try:
        names = [row.removeprefix(_SELECTED) for row in rows]
        return text, tuple(json.loads(n) if n.startswith('"') else n for n in names)
    except ValueError:
        return message.strip("\n"), None


def _committer(commit: bytes) -> tuple[str, datetime]:
    line = next((row for row in commit.split(b"\n") if row.startswith(b"committer ")), b"")
    ident = parse_ident(line.removeprefix(b"committer "))
    return ident.name, ident.moment.astimezone(UTC)


def _decoded(data: bytes) -> TagResidue:
    try:
        residue = from_json(data, TagResidue)
    except (msgspec.DecodeError, ValueError) as error:
        raise BrokenError(f"what was kept of a tag for Git is damaged: {error}", code="git.residue") from error
    if residue.form != FORM:
        raise BrokenError(f"what was kept of a tag for Git has form {residue.form}, not {FORM}", code="git.residue")
    return residue

"""Small TOML texts in place of what the other side cannot hold.

In Git a *content note* stands for large content, whose bytes stay on the shelf. On the shelf a *link note* stands for a
symbolic link and a *submodule note* for an entry that names a commit of another repository; nothing either of them
names is ever followed. The form of each is documented in ``docs/git.md``.
"""

from __future__ import annotations

import json
import re
import tomllib
from dataclasses import dataclass
from typing import Any

from everyshelf.core.content.ids import is_content_id
from everyshelf.core.kinds.recognise import GIT_NOTE
from everyshelf.gitside.texts import as_raw, as_text

FORM = 1
MOST_BYTES = 16 * 1024  # a longer text is not a note
_LINK = f"{GIT_NOTE.decode()}a symbolic link. Every Shelf keeps it and does not follow it."
_SUBMODULE = f"{GIT_NOTE.decode()}a commit of another repository, a submodule. Every Shelf keeps its id."
_CONTENT = "# Every Shelf content note:"
_COMMIT = re.compile(r"[0-9a-f]{40}\Z")
# Part of the form: a name that would give another kind one day would give another note, and so another history.
_KINDS = {
    "archive": ("zip", "tar", "gz", "tgz", "bz2", "xz", "7z"),
    "database": ("sqlite", "sqlite3", "db"),
    "dataset": ("csv", "tsv", "parquet", "arrow", "feather", "jsonl", "ndjson"),
    "document": ("pdf", "docx", "odt", "pptx", "odp"),
    "model": ("pkl", "pickle", "joblib", "onnx", "safetensors", "pt", "pth", "npy", "npz"),
    "picture": ("png", "jpg", "jpeg", "gif", "webp", "tif", "tiff", "bmp"),
    "spreadsheet": ("xlsx", "xlsm", "xls", "xlsb", "ods"),
}
_KIND_OF = {suffix: kind for kind, suffixes in _KINDS.items() for suffix in suffixes}


@dataclass(frozen=True)
class ContentNote:
    """What stands in Git for content: its id on the shelf, its size in bytes, its kind by its name."""

    sha256: str
    size: int
    kind: str


def kind_by_name(path: str) -> str:
    """The kind a content note says."""
    return _KIND_OF.get(path.rpartition(".")[2].lower(), "opaque")


def write_content_note(note: ContentNote) -> bytes:
    """The text of a content note."""
    return (
        f"{_CONTENT} the {note.size:,} bytes of this file are on the shelf. Get them: everyshelf git-link fill\n"
        f'form = {FORM}\nsha256 = "{note.sha256}"\nsize = {note.size}\nkind = "{note.kind}"\n'
    ).encode()


def read_content_note(data: bytes) -> ContentNote | None:
    """The note that ``data`` is; None for anything else."""
    if len(data) > MOST_BYTES or not data.startswith(_CONTENT.encode()):
        return None
    said = _parsed(data)
    digest, size, kind = said.get("sha256"), said.get("size"), said.get("kind")
    if said.get("form") != FORM or not is_content_id(digest) or not isinstance(size, int) or not isinstance(kind, str):
        return None
    return ContentNote(str(digest), size, kind)


def write_link_note(target: bytes) -> bytes:
    """The artifact that stands for a symbolic link to ``target``."""
    return f"{_LINK}\nform = {FORM}\nlink = {json.dumps(as_text(target), ensure_ascii=True)}\n".encode()


def write_submodule_note(commit: str) -> bytes:
    """The artifact that stands for a submodule at ``commit``."""
    return f'{_SUBMODULE}\nform = {FORM}\nsubmodule = "{commit}"\n'.encode()


def read_git_note(data: bytes) -> tuple[str, bytes] | None:
    """("link", target) or ("submodule", commit in hex) for such an artifact; None for anything else."""
    if len(data) > MOST_BYTES or not data.startswith(GIT_NOTE):
        return None
    said = _parsed(data)
    link, submodule = said.get("link"), said.get("submodule")
    if said.get("form") != FORM:
        return None
    if isinstance(link, str) and link and "\0" not in link and submodule is None:
        return "link", as_raw(link)
    if isinstance(submodule, str) and _COMMIT.match(submodule) and link is None and int(submodule, 16):
        return "submodule", submodule.encode()
    return None


def _parsed(data: bytes) -> dict[str, Any]:
    try:
        return tomllib.loads(data.decode())
    except (ValueError, RecursionError):
        return {}

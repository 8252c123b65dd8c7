"""What a commit of Git holds that the shelf has no place for, kept as a content of its own and put back on the way out.

Each member is left out where the mapping gives the right bytes without it. Bytes are written as ``texts.as_text`` does.
"""

from __future__ import annotations

from typing import Literal

import msgspec

from everyshelf.core.errors import BrokenError
from everyshelf.decoding import from_json

FORM = 1
_MOST_NAMED = 3
PathAs = Literal["plain", "bytes", "commit", "absent", "folder"]


class KeptPath(msgspec.Struct, omit_defaults=True, frozen=True):
    """What stands at a path in Git where the mapping of the artifacts would give something else.

    ``plain``: the artifact's own bytes under ``mode``. ``bytes``: the content ``content`` of the shelf, under ``mode``.
    ``commit``: a commit of another repository, ``id``. ``absent``: nothing. ``folder``: the tree as written, its bytes
    in hex as ``id``.
    """

    path: str
    keep: PathAs
    mode: str = ""
    content: str = ""
    id: str = ""


class GitResidue(msgspec.Struct, omit_defaults=True, frozen=True, kw_only=True):
    """``plain``: the message is summary and description without trailers. ``shelf_commit``: the id its trailer names,
    if that is not its own. ``whole``: all of the commit object."""

    form: int = FORM
    author: str | None = None
    committer: str | None = None
    headers: str | None = None
    message: str | None = None
    plain: bool = False
    shelf_commit: str | None = None
    whole: str | None = None
    paths: tuple[KeptPath, ...] = ()


NOTHING = GitResidue()


def encode_residue(residue: GitResidue) -> bytes:
    """Canonical JSON (keys in the order of the form, defaults left out)."""
    return msgspec.json.encode(residue)


def decode_residue(data: bytes) -> GitResidue:
    """The residue in ``data``; raises ``BrokenError`` for another form."""
    try:
        residue = from_json(data, GitResidue)
    except (msgspec.DecodeError, ValueError) as error:
        raise BrokenError(f"what was kept for Git is damaged: {error}", code="git.residue") from error
    if residue.form != FORM:
        raise BrokenError(f"what was kept for Git has form {residue.form}, not {FORM}", code="git.residue")
    return residue


def in_words(residue: GitResidue) -> list[str]:
    """What is kept for Git, for people to read."""
    found: list[str] = []
    headers = residue.headers or ""
    if "gpgsig" in headers or "gpgsig" in (residue.whole or ""):
        found.append("its signature")
    if "encoding " in headers:
        found.append("its encoding")
    if residue.author is not None:
        found.append("author with address and time zone")
    if residue.committer is not None and residue.committer != residue.author:
        found.append("committer")
    if residue.message is not None:
        found.append("its message as written")
    if residue.whole is not None:
        found.append("the commit as written")
    files = [kept.path for kept in residue.paths if kept.keep != "folder"]
    found += [f"{path} as Git has it" for path in files[:_MOST_NAMED]]
    if len(files) > _MOST_NAMED:
        more = len(files) - _MOST_NAMED
        found.append(f"{more} more files as Git has them" if more > 1 else "1 more file as Git has it")
    return found

"""Who did something and when, as Git writes it: ``NAME <ADDRESS> SECONDS ZONE``."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime

_LINE = re.compile(rb"(?P<name>.*?) ?<(?P<mail>[^>\n]*)> (?P<seconds>-?\d+) (?P<zone>[+-]\d+)\Z", re.DOTALL)
# What Git leaves out of names (``git-commit-tree``), and what it strips at their ends.
_FORBIDDEN = re.compile(r"[<>\n\0]")
_CRUD = " .,:;<>\"\\'"
_MOST = 150
_START = datetime(1970, 1, 1, tzinfo=UTC)


@dataclass(frozen=True)
class Ident:
    """A name as people read it, and a moment in UTC."""

    name: str
    moment: datetime


def git_name(author: str) -> str:
    """An author's name as Git can hold it."""
    shown = "".join(c if c >= " " and c != "\x7f" else " " for c in _FORBIDDEN.sub(" ", author))
    before = ""
    while before != shown:
        before, shown = shown, shown.strip(_CRUD).strip()
    return shown or "unnamed"


def ident_line(author: str, moment: datetime) -> bytes:
    """The line of an author of the shelf. Mail cannot reach the address (RFC 2606)."""
    name = git_name(author)
    address = re.sub(r"[^a-z0-9._-]+", "-", name.lower().encode("ascii", "ignore").decode()).strip("-.") or "unnamed"
    return f"{name} <{address}@every-shelf.invalid> {seconds_of(moment)} +0000".encode()


def seconds_of(moment: datetime) -> int:
    """Whole seconds since 1970, the rest cut off."""
    return (moment - _START) // _SECOND


_SECOND = datetime(1970, 1, 1, 0, 0, 1, tzinfo=UTC) - _START


def parse_ident(line: bytes, encoding: str = "utf-8") -> Ident:
    """Read a line of any Git program; what cannot be read of it is left as unknown, never refused."""
    found = _LINE.match(line)
    if found is None:
        return Ident(_shown(line.partition(b"<")[0], encoding) or "unknown", _START)
    name = _shown(found["name"], encoding) or _shown(found["mail"].partition(b"@")[0], encoding) or "unknown"
    try:
        moment = datetime.fromtimestamp(int(found["seconds"]), UTC)
    except (ValueError, OverflowError, OSError):
        moment = _START
    return Ident(name, moment)


def _shown(raw: bytes, encoding: str) -> str:
    text = decoded(raw, encoding)
    return "".join(c if c >= " " and c != "\x7f" else " " for c in text).strip()[:_MOST]


def decoded(raw: bytes, encoding: str) -> str:
    """``raw`` in the encoding a commit declares; bytes that do not fit are read as Latin-1."""
    for name in (encoding, "utf-8"):
        try:
            return raw.decode(name)
        except (LookupError, UnicodeError, ValueError):
            continue
    return raw.decode("latin-1")

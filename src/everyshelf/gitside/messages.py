"""What is said of a commit, as Git's message: summary, description, and a last paragraph of trailers.

``Label: KEY=VALUE``, ``Task: ID``, ``Moved: OLD -> NEW`` and ``Shelf-commit: ID``, one a line; what would not stay
what it is on such a line is written as a JSON string (RFC 8259).
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

_MOST_SUMMARY = 300
_TRAILER = re.compile(r"(Label|Task|Moved|Shelf-commit): (.*)\Z", re.DOTALL)
_LEAST_SUMMARY = "(no message)"


@dataclass(frozen=True)
class Said:
    """What is said of a commit."""

    summary: str
    description: str = ""
    labels: Mapping[str, str] = field(default_factory=dict)
    tasks: tuple[str, ...] = ()
    moves: tuple[tuple[str, str], ...] = ()
    shelf_commit: str = ""


def message_of(said: Said) -> str:
    """The message of a commit made on a shelf; without anything for trailers it is a plain one."""
    lines = [f"Label: {_quoted(k, '=')}={_quoted(v)}" for k, v in sorted(said.labels.items())]
    lines += [f"Task: {_quoted(task)}" for task in said.tasks]
    lines += [f"Moved: {_quoted(old, ' -> ')} -> {_quoted(new, ' -> ')}" for old, new in said.moves]
    if said.shelf_commit:
        lines.append(f"Shelf-commit: {_quoted(said.shelf_commit)}")
    if not lines:
        return plain_message_of(said)
    paragraphs = [said.summary, *([said.description] if said.description else []), "\n".join(lines)]
    return "\n\n".join(paragraphs) + "\n"


def plain_message_of(said: Said) -> str:
    """The message as people who use Git write it: summary, empty line, description."""
    return f"{said.summary}\n" + (f"\n{said.description}\n" if said.description else "")


def parse_message(text: str) -> Said:
    """Read the message of any Git program: our trailers, if its last paragraph holds nothing else, and the rest."""
    head, gap, block = text.removesuffix("\n").rpartition("\n\n")
    trailers = _trailers(block.split("\n")) if gap else None
    if trailers is None:
        head, trailers = text, ()
    summary, description = _head(head, bare=trailers == ())
    labels: dict[str, str] = {}
    tasks, moves, shelf_commit = [], [], ""
    for name, values in trailers:
        if name == "Label":
            labels[values[0]] = values[1]
        elif name == "Task":
            tasks.append(values[0])
        elif name == "Moved":
            moves.append((values[0], values[1]))
        else:
            shelf_commit = values[0]
    return Said(summary, description, labels, tuple(tasks), tuple(moves), shelf_commit)


def _head(text: str, *, bare: bool) -> tuple[str, str]:
    """Summary and description; ``bare``: the line end that closes a message is not part of the description."""
    first, gap, rest = text.partition("\n\n") if "\n" not in text.partition("\n\n")[0] else (text, "", "")
    if gap and first.strip() and len(first) <= _MOST_SUMMARY and first == first.strip():
        return first, rest.removesuffix("\n") if bare else rest
    lines = text.strip().split("\n")
    summary = lines[0].strip()
    if len(summary) > _MOST_SUMMARY:
        return summary[: _MOST_SUMMARY - 1] + "…", text.strip()
    return summary or _LEAST_SUMMARY, "\n".join(lines[1:]).strip("\n")


def _trailers(lines: Iterable[str]) -> tuple[tuple[str, list[str]], ...] | None:
    """Each line as name and values; None if one of them is not such a line."""
    found = []
    for line in lines:
        said = _TRAILER.match(line)
        if said is None:
            return None
        parting = {"Label": "=", "Moved": " -> "}.get(said[1], "")
        values = _values(said[2], parting)
        if values is None or (parting and len(values) != 2):
            return None
        found.append((said[1], values))
    return tuple(found)


def _quoted(text: str, parting: str = "") -> str:
    """``text`` as it stands where that can be read back, else as a JSON string."""
    is_plain = bool(text) and text.isprintable() and text == text.strip() and not text.startswith('"')
    return text if is_plain and not (parting and parting in text) else json.dumps(text, ensure_ascii=True)


def _values(text: str, parting: str) -> list[str] | None:
    """The one or two values on a line."""
    found, left = [], text
    for last in (False, True) if parting else (True,):
        if left.startswith('"'):
            try:
                value, end = json.JSONDecoder().raw_decode(left)
            except ValueError:
                return None
            left = left[end:]
            if not last and not left.startswith(parting):
                return None
            left = left[len(parting) :] if not last else left
        elif last:
            value, left = left, ""
        else:
            value, gap, left = left.partition(parting)
            if not gap:
                return None
        found.append(value)
    return found if not left else None

"""What an artifact names and what it offers by name: from both comes who uses what on a shelf.

A name is exact where a field whose business it is holds it (a step's ``run``, a ``path``, the process a call activity
calls); a file name inside any other text is a guess.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterable
from typing import Protocol

from everyshelf.core.answers.uses import Reference
from everyshelf.core.kinds.references import EXACT_FIELDS, parts_of, said_of
from everyshelf.core.outline.model import Part

_MOST_NAMES = 2000
_MOST_TEXT = 20_000
_ID_FIELDS = frozenset({"calledElement", "decisionRef", "processRef", "calledDecision", "decision", "process"})
_OFFERED = frozenset({"process", "decision"})
_SUFFIXES = (
    "cwl|json|jsonl|ya?ml|toml|ini|env|properties|xml|bpmn|dmn|csv|tsv|parquet|feather|arrow|py|sql|bas|js|mjs|ts|sh|r|ipynb"
    "|feature|md|html?|svg|png|jpe?g|xlsx?|xlsm|ods|docx?|odt|db|sqlite3?|onnx|safetensors|pkl|pickle|joblib|pmml|txt|dat|gz|zip"
)
_FILE = re.compile(rf"(?:[\w.@~+-]+/)*[\w.@~+-]+\.(?:{_SUFFIXES})(?![\w/-])", re.IGNORECASE)


def names_in(root: Part) -> list[Reference]:
    """Everything below ``root`` that names a file or something else by its id; each once a place."""
    found: dict[tuple[str, str], Reference] = {}
    for path, part in parts_of(root):
        for field, value in part.fields.items():
            if not isinstance(value, str) or not value:
                continue
            for named in _in_field(path, part, field, value[:_MOST_TEXT]):
                known = found.get((named.text, named.place))
                if known is None or (named.exact and not known.exact):
                    found[named.text, named.place] = named
        if len(found) >= _MOST_NAMES:
            break
    return list(found.values())


def _in_field(path: str, part: Part, field: str, value: str) -> Iterable[Reference]:
    local = field.rpartition(".")[2]
    if local in _ID_FIELDS and re.fullmatch(r"[\w.:-]+", value):
        yield Reference(value.rpartition(":")[2], path, said_of(path, part), True, by_id=True)
    whole = _bare(value)
    is_field = local in EXACT_FIELDS or field == "value"
    for match in _FILE.finditer(value):
        yield Reference(_bare(match[0]), path, said_of(path, part), is_field and _bare(match[0]) == whole)


def _bare(text: str) -> str:
    return text.strip().removeprefix("file://").partition("#")[0]


def offered_by(root: Part) -> list[str]:
    """Ids others may call: processes and decisions."""
    found = []
    for _, part in parts_of(root):
        if part.type in _OFFERED and part.key:
            found.append(part.key)
        if len(found) >= _MOST_NAMES:
            break
    return found


class Paths(Protocol):
    """The paths of a state, wherever they are kept."""

    def has(self, path: str) -> bool:
        """Whether an artifact is at this path."""

    def ending(self, name: str) -> list[str]:
        """The paths with this file name, in order."""


class PathsOf:
    """Paths that are at hand."""

    def __init__(self, paths: Iterable[str]) -> None:
        self._paths = set(paths)
        self._by_end: dict[str, list[str]] = {}
        for path in sorted(self._paths):
            self._by_end.setdefault(posixpath.basename(path), []).append(path)

    def has(self, path: str) -> bool:
        """Whether an artifact is at this path."""
        return path in self._paths

    def ending(self, name: str) -> list[str]:
        """The paths with this file name, in order."""
        return self._by_end.get(name, [])


class Targets:
    """What names can mean on a shelf: its paths, and the ids its artifacts offer."""

    def __init__(self, paths: Paths, offers: dict[str, list[str]]) -> None:
        self._paths = paths
        self._offers = offers

    def of(self, named: Reference, holder: str) -> list[str]:
        """The artifacts a name in ``holder`` means: beside that first, then by full path, then by the end of it."""
        if named.by_id:
            return [p for p in self._offers.get(named.text, []) if p != holder]
        text = posixpath.normpath(named.text)
        beside = posixpath.normpath(posixpath.join(posixpath.dirname(holder), text))
        for candidate in (beside, text.lstrip("/")):
            if self._paths.has(candidate):
                return [] if candidate == holder else [candidate]
        end = "/" + text.lstrip("./")
        alike = self._paths.ending(posixpath.basename(text))
        return [p for p in alike if p != holder and f"/{p}".endswith(end)][:3]

    def may_mean(self, named: Reference, path: str) -> bool:
        """False where a name cannot mean ``path``: cheap, for looking through many."""
        if named.by_id:
            return path in self._offers.get(named.text, [])
        return posixpath.basename(named.text) == posixpath.basename(path)


def is_missed(named: Reference) -> bool:
    """True if a name that leads nowhere is worth telling: exact, and no address, pattern or place outside."""
    text = named.text
    return named.exact and not re.search(r"://|[*?{}$<>]", text) and not text.startswith(("/", "~", ".."))

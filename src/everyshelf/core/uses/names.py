"""What an artifact names and what it offers by name: from both comes who uses what on a shelf.

A name is exact where a field whose business it is holds it (a step's ``run``, a ``path``, the process a call activity
calls); a file name inside any other text is a guess.
"""

from __future__ import annotations

import functools
import posixpath
import re
from collections.abc import Iterable, Iterator
from typing import Protocol

from everyshelf.core.answers.uses import Reference
from everyshelf.core.outline.model import Part
from everyshelf.core.uses.calls import calls_in, offered_calls
from everyshelf.core.uses.places import EXACT_FIELDS, parts_of, said_of

_MOST_NAMES = 2000
_MOST_TEXT = 20_000
_MOST_REMEMBERED = 50_000
_ID_FIELDS = frozenset({"calledElement", "decisionRef", "processRef", "calledDecision", "decision", "process"})
# Fields that name another artifact by the name it gives itself.
# fmt: off
_NAME_FIELDS = frozenset({
    "pipeline", "workflow", "subworkflow", "subprocess", "dataset", "model", "script", "notebook", "app", "component",
    "template", "calls", "subflow", "table", "source",
})
# Fields of the root in which an artifact says what it is called.
# fmt: off
_OWN_NAMES = (
    "name", "id", "title", "label", "app", "pipeline", "workflow", "project", "testProject", "model", "dataset",
)
# fmt: on
_OFFERED = frozenset({"process", "decision"})
_SUFFIXES = (
    "cwl|json|jsonl|ya?ml|toml|ini|env|properties|xml|bpmn|dmn|csv|tsv|parquet|feather|arrow|py|sql|bas|js|mjs|ts|sh|r|ipynb"
    "|feature|md|html?|svg|png|jpe?g|xlsx?|xlsm|ods|docx?|odt|db|sqlite3?|onnx|safetensors|pkl|pickle|joblib|pmml|txt|dat|gz|zip"
)
# Fields whose file a step makes.
_WRITTEN = frozenset(
    {"output", "outputs", "destination", "sink", "writes", "saveAs", "save_as", "outputPath", "output_path"}
)
# fmt: on
# Runs of the letters of paths, and the endings in them: one pattern for both would take the square of a run's length.
_RUN = re.compile(r"[\w.@~+/-]+")
_ENDING = re.compile(rf"\.(?:{_SUFFIXES})(?![\w/-])", re.IGNORECASE)
_LONGEST_NAME = 500
_ADDRESS = re.compile(r"\bshelf://(?:[^/\s@]+/)?([a-z0-9][a-z0-9-]*)(?:@[^/\s]+)?/([^\s\"'<>?#]+)")
_PAGE = re.compile(r"https?://[^/\s]+/shelves/([a-z0-9][a-z0-9-]*)/artifact/([^\s\"'<>?#]+)")


def names_in(root: Part) -> list[Reference]:
    """Everything below ``root`` that names a file or something else; each once a place."""
    found: dict[tuple[str, str], Reference] = {}
    messages = _messages(root)
    for path, part in parts_of(root):
        for field, value in part.fields.items():
            if not isinstance(value, str) or not value:
                continue
            for named in _in_field(path, part, field, value[:_MOST_TEXT], messages):
                known = found.get((named.text, named.place))
                if known is None or (named.exact and not known.exact):
                    found[named.text, named.place] = named
        if len(found) >= _MOST_NAMES:
            break
    return list(found.values())


def _in_field(path: str, part: Part, field: str, value: str, messages: dict[str, str]) -> Iterable[Reference]:
    local = field.rpartition(".")[2]
    told = said_of(path, part)
    if local in _ID_FIELDS and re.fullmatch(r"[\w.:-]+", value):
        yield Reference(value.rpartition(":")[2], path, told, True, "id")
    if local == "messageRef" and _throws(part):
        name = messages.get(value.rpartition(":")[2], value)
        yield Reference(name, path, told, True, "message")
    addresses = list(_addresses(path, told, value))
    yield from addresses
    whole = _bare(value)
    is_field = local in EXACT_FIELDS or field == "value"
    files = False
    for name in file_names(value) if not addresses else ():
        files = True
        exact = is_field and _bare(name) == whole
        yield Reference(_bare(name), path, told, exact, writes=exact and local in _WRITTEN)
    if (
        local in _NAME_FIELDS
        and part.type != "cell"
        and not files
        and 1 < len(value) <= 80
        and re.fullmatch(r"\w[\w .:-]*", value)
    ):
        yield Reference(value, path, told, True, "name")
    if not files:
        yield from calls_in(path, told, local, value)


def file_names(text: str) -> Iterator[str]:
    """The names and paths of files in a text, as far as their endings are known."""
    for run in _RUN.finditer(text):
        ends = [match.end() for match in _ENDING.finditer(run[0])] if "." in run[0] else []
        if ends:
            name = run[0][: ends[-1]].rpartition("//")[2].lstrip("/")
            if 0 < len(name) <= _LONGEST_NAME and not name.rpartition("/")[2].startswith("."):
                yield name


def _addresses(path: str, told: str, value: str) -> Iterator[Reference]:
    """Artifacts of a shelf named by their address."""
    for pattern in (_ADDRESS, _PAGE):
        for match in pattern.finditer(value):
            yield Reference(match[2].rstrip("/.,;)"), path, told, True, "address", shelf=match[1])


def _bare(text: str) -> str:
    return text.strip().removeprefix("file://").partition("#")[0]


def _messages(root: Part) -> dict[str, str]:
    """The names of the messages that are declared, by id."""
    return {
        str(part.key): str(part.fields.get("name") or part.key)
        for _, part in parts_of(root)
        if part.type == "message" and part.key
    }


def _throws(part: Part) -> bool:
    """Whether a part sends its message; others wait for it."""
    element = str(part.fields.get("element", part.type))
    return element in ("sendTask", "intermediateThrowEvent", "endEvent")


def offered_by(root: Part) -> list[str]:
    """The keys under which others may name it: processes and decisions, messages that are waited for, tables, calls,
    and the name it gives itself."""
    own = (root.fields.get(field) for field in _OWN_NAMES)
    found = [f"name:{name.casefold()}" for name in own if isinstance(name, str) and 1 < len(name) <= 80]
    messages = _messages(root)
    for _, part in parts_of(root):
        if part.type in _OFFERED and part.key:
            found += [f"id:{part.key.casefold()}", f"name:{part.label.casefold()}"]
        elif part.type == "table" and part.key:
            found.append(f"table:{part.key.rpartition('.')[2].casefold()}")
        elif not _throws(part):
            for field, value in part.fields.items():
                if field.rpartition(".")[2] == "messageRef" and isinstance(value, str):
                    found.append(f"message:{messages.get(value.rpartition(':')[2], value).casefold()}")
        if len(found) >= _MOST_NAMES:
            break
    return list(dict.fromkeys(found + offered_calls(root)))


def keys_of(named: Reference) -> list[str]:
    """The keys a reference is kept under; one of them is a key of its target (see ``keys_for``)."""
    if named.what in ("file", "address"):
        return [f"file:{posixpath.basename(tidied(named.text)).casefold()}"]
    if named.what == "table":
        return [f"table:{named.text.rpartition('.')[2].casefold()}"]
    if named.what == "call":
        return [f"call:{end}" for end in call_ends(named.text)]
    return [f"{named.what}:{named.text.casefold()}"]


def call_ends(path: str) -> list[str]:
    """A path of a call and its ends: what comes first may belong to the address of the service."""
    steps = path.strip("/").split("/")
    ends = ["/" + "/".join(steps[first:]) for first in range(min(4, len(steps)))]
    return [end for end in ends if end.strip("/{}")]


TABULAR = frozenset({"dataset", "spreadsheet", "database"})


def keys_for(path: str, kind: str, offers: Iterable[str]) -> list[str]:
    """The keys under which references to an artifact are kept: its file name, as a table, and what it offers."""
    keys = [f"file:{posixpath.basename(path).casefold()}", *offers]
    if kind in TABULAR:
        keys.append(f"table:{stem(path)}")
    return list(dict.fromkeys(keys))


def stem(path: str) -> str:
    """The file name without what comes after its first dot, folded."""
    return posixpath.basename(path).partition(".")[0].casefold()


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


@functools.lru_cache(_MOST_REMEMBERED)
def tidied(text: str) -> str:
    """A file name without steps that lead nowhere. The same names occur in thousands of artifacts."""
    return posixpath.normpath(text)


@functools.lru_cache(_MOST_REMEMBERED)
def _below(folder: str, name: str) -> str:
    return posixpath.normpath(posixpath.join(folder, name))


def beside(holder: str, name: str) -> str:
    """The path that a tidied file name in ``holder`` has if it counts from the folder of the holder."""
    return _below(holder.rpartition("/")[0], name)


def _first_meant(name: str, by_holder: str, paths: Paths) -> str | None:
    """The artifact at ``by_holder``, which is the path ``beside`` the holder, else the one at the full path."""
    return next((path for path in (by_holder, name.lstrip("/")) if paths.has(path)), None)


def _end_of(name: str) -> str:
    return "/" + name.lstrip("./")


def files_meant(named: Reference, holder: str, paths: Paths) -> list[str]:
    """The artifacts a file name in ``holder`` means: beside that first, then by full path, then by the end of it."""
    name = tidied(named.text)
    first = _first_meant(name, beside(holder, name), paths)
    if first is not None:
        return [] if first == holder else [first]
    end = _end_of(name)
    alike = paths.ending(posixpath.basename(name))
    return [p for p in alike if p != holder and f"/{p}".endswith(end)][:3]


def may_mean(name: str, by_holder: str, path: str, paths: Paths) -> bool:
    """False where a tidied file name, which is at ``by_holder`` beside its holder, cannot mean ``path``."""
    first = _first_meant(name, by_holder, paths)
    return first == path if first is not None else f"/{path}".endswith(_end_of(name))


def may_mean_file(named: Reference, path: str) -> bool:
    """False where a file name cannot mean ``path``: cheap, for looking through many."""
    return posixpath.basename(tidied(named.text)) == posixpath.basename(path)


def is_missed(named: Reference) -> bool:
    """True if a name that leads nowhere is worth telling: exact, and no address, pattern or place outside."""
    text = named.text
    if not named.exact or named.what not in ("file", "id"):
        return False
    return not named.writes and not re.search(r"://|[*?{}$<>]", text) and not text.startswith(("/", "~", ".."))

"""Which kind a file is: first what ``shelf.toml`` says, then the content, then the name.

Content beats a lying name, and the answer says so. Nothing is ever left out: what nobody knows is ``opaque``.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import PurePosixPath
from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import first_member, local_names
from everyshelf.core.formats.json import parse_json
from everyshelf.core.formats.onnx import looks_like_onnx
from everyshelf.core.formats.pickles import ZLIB_MARKS, inflated_head, looks_like_pickle
from everyshelf.core.formats.tables import find_delimiter
from everyshelf.core.formats.text import decode
from everyshelf.core.formats.yaml import parse_yaml
from everyshelf.core.kinds.captured import looks_captured
from everyshelf.core.kinds.graphs import has_wires, id_field
from everyshelf.core.tables.formats import is_arrow_stream

HEAD_BYTES = 64 * 1024
GIT_NOTE = b"# In Git this is "  # begins what stands for a link or a submodule
_WHOLE_BYTES = 2 * 1024 * 1024  # up to here a structured text is parsed to be recognised, beyond only its head is seen


@dataclass(frozen=True)
class Recognition:
    """A kind, the format it is read in (empty: none yet), and a note where name and content disagree.

    ``tree`` is what was parsed to find out, so that nobody has to parse it again; None if nothing was.
    """

    kind: str
    format: str = ""
    note: str = ""
    tree: Any = field(default=None, compare=False, repr=False)


_SIGNATURES: tuple[tuple[bytes, Recognition], ...] = (
    (b"\x89PNG\r\n\x1a\n", Recognition("picture", "png")),
    (b"\xff\xd8\xff", Recognition("picture", "jpeg")),
    (b"GIF8", Recognition("picture", "gif")),
    (b"SQLite format 3\0", Recognition("database", "sqlite")),
    (b"PAR1", Recognition("dataset", "parquet")),
    (b"ARROW1", Recognition("dataset", "arrow")),
    (b"FEA1", Recognition("dataset", "feather")),
    (b"%PDF-", Recognition("document", "pdf")),
    (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", Recognition("document", "compound")),
    (b"\x80\x02", Recognition("model", "pickle")),
    (b"\x80\x03", Recognition("model", "pickle")),
    (b"\x80\x04", Recognition("model", "pickle")),
    (b"\x80\x05", Recognition("model", "pickle")),
)
# A member's name (or its beginning) that says what a zip is; the type an open document says it is.
_ZIP_TELLS = (
    ("xl/", "spreadsheet", "xlsx"),
    ("word/", "document", "docx"),
    ("ppt/", "document", "pptx"),
)
_OPEN_DOCUMENT = b"application/vnd.oasis.opendocument."
_PICKLE_NAMES = (".pkl", ".pickle", ".joblib", ".p", ".pck", ".sav")
_SCRIPTS = {
    ".py": "python",
    ".sql": "sql",
    ".js": "javascript",
    ".mjs": "javascript",
    ".ts": "typescript",
    ".sh": "shell",
    ".bas": "basic",
    ".vb": "basic",
    ".vba": "basic",
    ".cls": "basic",
    ".r": "r",
    ".ps1": "powershell",
}
_SETTINGS = {".toml": "toml", ".ini": "ini", ".cfg": "ini", ".conf": "ini", ".env": "env", ".properties": "properties"}
_ENVIRONMENT = re.compile(r"\.env(\d*|[._-].+)")
_REPORTS = {".md": "markdown", ".markdown": "markdown", ".html": "html", ".htm": "html", ".rst": "text", ".txt": "text"}
_XML_ROOTS = {
    "definitions": ("workflow", ("BPMN", "DMN")),
    "testsuites": ("tests", ()),
    "testsuite": ("tests", ()),
    "PMML": ("model", ()),
    "svg": ("report", ()),
    "html": ("report", ()),
    "workflow": ("workflow", ()),
    "process": ("workflow", ()),
    "pipeline": ("pipeline", ()),
    "job": ("pipeline", ()),
    "project": ("settings", ()),
}
_ROOT = re.compile(rb"<(?!\?|!)(?:([\w.-]+):)?([\w.-]+)([^>]*)")
# The keyword that opens a feature in the languages seen most; any other language announces itself with "# language:".
_GHERKIN = re.compile(
    r"^\s*(?:@\S+\s+)*(# *language:|Feature:|Funktionalität:|Funktion:|Fonctionnalité:|Característica:|Egenskap:"
    r"|Funzionalità:|Functionaliteit:|Funkcja:|Ominaisuus:|Функция:|フィーチャ:|功能:)",
    re.MULTILINE,
)
_INI_CHARACTERS = 4096
_STEP_NAMES = ("steps", "tasks", "jobs", "stages", "activities")
_LINK_NAMES = ("depends_on", "dependsOn", "needs", "after", "upstream", "next", "inputs", "in", "depends", "requires")


def recognise(name: str, head: bytes, size: int | None = None) -> Recognition:
    """The kind of a file called ``name`` that starts with ``head`` (its first 64 KiB or all of it)."""
    whole = size is None or size <= len(head)
    if not head:
        return by_name(name) or Recognition("opaque", "", "the file is empty")
    for mark, found in _SIGNATURES:
        if head.startswith(mark):
            return found
    if head.startswith(GIT_NOTE):
        return Recognition("opaque", "", head.partition(b"\n")[0][2:].decode("utf-8", "replace"))
    if is_arrow_stream(head):
        return Recognition("dataset", "arrow")
    if head.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        return _zip(name, head)
    if head.startswith(b"\x1f\x8b"):
        inner = by_name(PurePosixPath(name).stem)
        return Recognition(inner.kind if inner else "archive", "gzip")
    if len(head) > 9 and head[8:10] in (b'{"', b"{ ") and int.from_bytes(head[:8], "little") < 100_000_000:
        return Recognition("model", "safetensors")
    if looks_like_onnx(head):
        return Recognition("model", "onnx")
    if head.startswith(ZLIB_MARKS) and looks_like_pickle(inflated_head(head)):
        return Recognition("model", "pickle")
    return _text(name, head, whole=whole)


def _zip(name: str, head: bytes) -> Recognition:
    names = [n.replace("\\", "/").lower() for n in local_names(head)]
    for member in names:  # in their order: what is packed inside comes after what packs it
        for tell, kind, form in _ZIP_TELLS:
            if member.startswith(tell):
                is_binary = form == "xlsx" and "xl/workbook.bin" in names
                return Recognition(kind, "xlsb" if is_binary else form)
        if member == "data.pkl" or member.endswith("/data.pkl"):
            return Recognition("model", "pickle")
    if "mimetype" in names or {"content.xml", "meta-inf/manifest.xml"} <= set(names):
        return _open_document(name, head)
    return Recognition("archive", "zip")


def _open_document(name: str, head: bytes) -> Recognition:
    """By the type it says it is, first of all or somewhere; else by its name."""
    said = first_member(head)
    if not said.startswith(_OPEN_DOCUMENT):
        at = head.find(b"mimetype" + _OPEN_DOCUMENT)
        said = head[at + 8 : at + 100] if at >= 0 else b""
    suffix = PurePosixPath(name.lower()).suffix
    if said.startswith(_OPEN_DOCUMENT + b"spreadsheet") or (not said and suffix in (".ods", ".ots")):
        return Recognition("spreadsheet", "ods")
    if said.startswith(_OPEN_DOCUMENT) or suffix in (".odt", ".odp", ".ott"):
        return Recognition("document", "odt")
    return Recognition("archive", "zip")


def _binary(name: str, head: bytes) -> Recognition:
    """What is no text: by what the first bytes make when they are taken for one format after the other."""
    if head[257:262] == b"ustar":
        return Recognition("archive", "tar")
    suffix = PurePosixPath(name).suffix.lower()
    if suffix in _PICKLE_NAMES and looks_like_pickle(head):
        return Recognition("model", "pickle")
    return Recognition("model", "onnx") if suffix == ".onnx" else Recognition("opaque")


def _text(name: str, head: bytes, *, whole: bool) -> Recognition:
    try:
        text = decode(_cut_at_line(head) if not whole else head).text
    except UnreadableError:
        return _binary(name, head)
    if "\0" in text:
        return _binary(name, head)
    if PurePosixPath(name).suffix.lower() in _PICKLE_NAMES and looks_like_pickle(head):
        return Recognition("model", "pickle")
    start = text.lstrip("\ufeff \t\r\n")[:1]
    named = by_name(name)
    if start == "<" and not (named is not None and named.format == "markdown" and "<?xml" not in text[:100]):
        return _xml(head, named) or named or Recognition("report", "xml")
    if start in ("{", "[") and (found := _json(name, head, text, whole=whole)) is not None:
        return found
    if _GHERKIN.search(text[:4096]) and (named is None or named.kind not in ("script",)):
        return Recognition("tests", "gherkin")
    if named is not None and named.kind in ("script", "report") and named.format != "text":
        return named
    if _named_yaml(name) or text.startswith("---\n"):
        return _yaml(head, whole=whole)
    if named is not None and named.kind == "settings":
        return named
    return _plain(name, text, named)


def _cut_at_line(head: bytes) -> bytes:
    end = head.rfind(b"\n")
    return head[: end + 1] if end > 0 else head[:-4]


def _plain(name: str, text: str, named: Recognition | None) -> Recognition:
    if named is not None and named.kind == "dataset":
        return Recognition("dataset", "csv")
    if text.startswith("#!"):
        return Recognition("script", "text")
    lines = text.count("\n")
    if named is None and _looks_like_ini(text):
        return Recognition("settings", "ini")
    if named is None and lines >= 2 and find_delimiter(text) is not None:
        return Recognition("dataset", "csv")
    return named or Recognition("report", "text")


def _looks_like_ini(text: str) -> bool:
    """A section in square brackets before anything but comments, and a key with a value in it."""
    section = False
    for raw in text[:_INI_CHARACTERS].splitlines():
        line = raw.strip()
        if not line or line[0] in "#;":
            continue
        if not section:
            if line[0] != "[" or line[-1] != "]":
                return False
            section = True
        elif "=" in line:
            return line.partition("=")[0].strip().replace("-", "").replace(".", "").isalnum()
    return False


def by_name(name: str) -> Recognition | None:
    """What the name alone says."""
    path = PurePosixPath(name.lower())
    suffix = path.suffix
    if suffix in _SCRIPTS:
        return Recognition("script", _SCRIPTS[suffix])
    if _ENVIRONMENT.fullmatch(path.name):
        return Recognition("settings", "env")
    if suffix in _SETTINGS:
        return Recognition("settings", _SETTINGS[suffix])
    if suffix in _REPORTS:
        return Recognition("report", _REPORTS[suffix])
    if suffix in (".csv", ".tsv", ".tab", ".psv"):
        return Recognition("dataset", "csv")
    if suffix in (".jsonl", ".ndjson"):
        return Recognition("dataset", "jsonl")
    if suffix == ".feature":
        return Recognition("tests", "gherkin")
    if suffix == ".json":
        return Recognition("settings", "json")
    if suffix in (".yaml", ".yml"):
        return Recognition("settings", "yaml")
    return Recognition("settings", "xml") if suffix == ".xml" else None


def _named_yaml(name: str) -> bool:
    return name.lower().endswith((".yaml", ".yml", ".cwl"))


# Elements that tell the kind of an XML file whose root is nobody's: two of them, each with a name or an id.
_NAMED = rb")\b[^<>]{0,300}\b(?:name|id)\s*="
_SCREENS = re.compile(rb"<(?:screen" + _NAMED, re.IGNORECASE)
_PAGES = re.compile(rb"<(?:page|form" + _NAMED, re.IGNORECASE)
_CONTROLS = re.compile(rb"<(?:control|widget|button)\b", re.IGNORECASE)
# Controls that say their class and their name, as designers of forms write them.
_CLASSED = re.compile(rb"<(?:widget|object|control)\b(?=[^<>]{0,300}\bclass\s*=)(?=[^<>]{0,300}\b(?:name|id)\s*=)")
_CASES = re.compile(rb"<(?:test[-_]?case|scenario" + _NAMED, re.IGNORECASE)


def _kind_of_parts(head: bytes) -> str:
    """The kind of an XML file by the elements in it."""
    if len(_SCREENS.findall(head)) > 1 or (_CONTROLS.search(head) and len(_PAGES.findall(head)) > 1):
        return "app"
    if len(_CLASSED.findall(head)) > 1:
        return "app"
    return "tests" if len(_CASES.findall(head)) > 1 else "settings"


def _xml(head: bytes, named: Recognition | None) -> Recognition | None:
    found = _ROOT.search(head.replace(b"\0", b""))
    if found is None:
        return None
    root, rest = found[2].decode("ascii", "replace"), found[3] + head[:4096]
    is_page = named is not None and named.format == "html" and not head.lstrip().startswith(b"<?xml")
    if is_page or root == "html" or head.lstrip()[:14].lower() == b"<!doctype html":
        return Recognition("report", "html")
    kind, tells = _XML_ROOTS.get(root, ("settings", ()))
    if tells and not any(t.encode() in rest for t in tells):
        kind = "settings"
    if kind == "settings":
        kind = _kind_of_parts(head)
    return Recognition(kind, "xml")


def _json(name: str, head: bytes, text: str, *, whole: bool) -> Recognition | None:
    if looks_captured(text):
        return Recognition("database", "json")
    lines = text.strip().splitlines()
    if len(lines) > 1 and all(_is_object_line(line) for line in lines[:20]):
        return Recognition("dataset", "jsonl")
    if not whole:
        return _json_head(text)
    try:
        tree = parse_json(head)
    except UnreadableError as error:
        if PurePosixPath(name).suffix.lower() == ".json":
            return Recognition("settings", "json", str(error))
        return None
    return Recognition(kind_of_tree(tree), "json", tree=tree)


def _json_head(text: str) -> Recognition:
    """From the keys that appear in a head that could not be parsed because it ends somewhere."""
    keys = dict.fromkeys(re.findall(r'"([^"\\]{1,60})"\s*:', text))
    if text.lstrip().startswith("[") and len(keys) < 60:
        return Recognition("dataset", "json")
    return Recognition(kind_of_tree({key: [{}, {}] for key in keys}), "json")


def _is_object_line(line: str) -> bool:
    line = line.strip()
    return line.startswith("{") and line.endswith("}")


def _yaml(head: bytes, *, whole: bool) -> Recognition:
    try:
        tree = parse_yaml(head if whole else _cut_at_line(head))
    except UnreadableError as error:
        return Recognition("settings", "yaml", str(error))
    return Recognition(kind_of_tree(tree), "yaml", tree=tree if whole else None)


def kind_of_tree(tree: Any) -> str:
    """The kind of a parsed JSON, YAML or TOML tree, by its tell-tale keys."""
    if isinstance(tree, list):
        return _kind_of_list(tree)
    if not isinstance(tree, dict):
        return "settings"
    keys = set(tree)
    if "nbformat" in keys or {"cells", "metadata"} <= keys or {"worksheets", "metadata"} <= keys:
        return "notebook"
    if "cwlVersion" in keys or "cwlversion" in keys:
        return "pipeline"
    if keys & {"openapi", "swagger"} or ("$schema" in keys and keys & {"properties", "definitions", "$defs"}):
        return "api"
    if keys & {"screens", "pages"} and _has_dicts(tree.get("screens", tree.get("pages"))):
        return "app"
    if any(_has_controls(holder) for holder in (tree, *tree.values())):
        return "app"
    if keys & {"suites", "testcases", "test_cases", "testCases", "scenarios"} or _has_cases(tree):
        return "tests"
    return _kind_of_graph(tree)


def _has_cases(tree: dict[str, Any]) -> bool:
    """True for a list of named tests, or a collection of named requests with what it says of itself."""
    name = "item" if isinstance(tree.get("info"), dict) else "tests"
    cases = tree.get(name)
    return isinstance(cases, list) and bool(cases) and all(isinstance(c, dict) and "name" in c for c in cases)


_CONTROL_LISTS = ("components", "controls", "widgets", "panels", "elements")
_SHOWN = {"label", "title", "key", "input", "placeholder", *_CONTROL_LISTS}
_QUESTIONS = {"question", "screen", "page"}


def _has_controls(holder: Any) -> bool:
    """True if a list in it is of things with a type of which most say how they are shown."""
    if not isinstance(holder, dict):
        return False
    for name in _CONTROL_LISTS:
        items = holder.get(name)
        if isinstance(items, list) and items and all(isinstance(v, dict) for v in items):
            shown = sum("type" in v and bool(set(v) & _SHOWN) for v in items)
            if shown * 2 > len(items):
                return True
    return False


def _kind_of_graph(tree: dict[str, Any]) -> str:
    for holder in [tree, *(v for v in tree.values() if isinstance(v, dict))]:
        if _has_dicts(holder.get("nodes")) and set(holder) & {"edges", "connections", "links"}:
            return "workflow"
        for name in _STEP_NAMES:
            if _has_dicts(holder.get(name)) and _refer(holder[name], holder):
                return "pipeline"
    return "settings"


def _has_dicts(value: Any) -> bool:
    items = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return any(isinstance(v, dict) for v in items)


def _refer(items: Any, holder: dict[str, Any]) -> bool:
    """True if named things refer to each other, or connections beside them do."""
    if set(holder) & {"connections", "edges", "links"}:
        return True
    values = items.values() if isinstance(items, dict) else items
    return any(isinstance(v, dict) and set(v) & set(_LINK_NAMES) for v in values)


def _kind_of_list(tree: list[Any]) -> str:
    if (name := id_field(tree)) is not None and has_wires(tree, name):
        return "workflow"
    records = [v for v in tree if isinstance(v, dict)]
    screens = [r for r in records if set(r) & _QUESTIONS]
    if len(screens) > 1 and any(_has_dicts(s.get(name)) for s in screens for name in ("fields", "controls")):
        return "app"
    flat = all(not isinstance(v, dict | list) for r in records[:100] for v in r.values())
    return "dataset" if len(records) == len(tree) > 1 and flat else "settings"

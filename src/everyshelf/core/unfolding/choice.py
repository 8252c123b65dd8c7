"""Which parts of a file get a file of their own, and what it is called."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from everyshelf.core.kinds.registry import kind_for
from everyshelf.core.unfolding.model import Names
from everyshelf.core.unfolding.spans import Spot, Tagged

Mode = Literal["item", "text", "lines"]
# Part types worth a file of their own, by kind; the innermost that occur are cut.
_CUT_TYPES = {"app": ("screen", "script"), "tests": ("case", "scenario")}
_FALLBACK_TYPES = {"tests": ("suite",)}
_FOLDERS = {"screen": "screens/", "script": "scripts/", "case": "cases/", "scenario": "scenarios/", "suite": "suites/"}
_LABELS = ("name", "title", "label", "id", "key", "path")
_CODE = ("code", "source", "script", "body", "content", "text", "sql", "query")
_CODE_ELEMENTS = re.compile(r"(script|code|source|sql|query|body|formula|expression)$", re.IGNORECASE)
_MOST_TEXTS = 20_000


@dataclass
class Cut:
    """One span that becomes a file."""

    start: int
    end: int
    file: str
    mode: Mode
    text: str | None = None


def data_cuts(root: Spot, kind: str, suffix: str, names: Names) -> list[Cut]:
    """Items by the kind's types, and every text of several lines wherever it stands."""
    types = kind_for(kind).table.types
    wanted = _CUT_TYPES.get(kind, ())
    cuts = list(_items(root, wanted, types, names, suffix, "", "", 0))
    if not cuts:
        cuts = list(_items(root, _FALLBACK_TYPES.get(kind, ()), types, names, suffix, "", "", 0))
    for place, (label, spot, beside) in enumerate(_texts(root, "", None)):
        if place >= _MOST_TEXTS:
            break
        if spot.text is not None and spot.start < spot.end:
            file = names.make("texts/", label, text_suffix(label, spot.text, beside))
            cuts.append(Cut(spot.start, spot.end, file, "text", spot.text))
    return cuts


def _items(
    spot: Spot,
    wanted: tuple[str, ...],
    types: dict[str, str],
    names: Names,
    suffix: str,
    list_name: str,
    holder: str,
    depth: int,
) -> Iterator[Cut]:
    """Members of lists and maps of a wanted type; folders carry the name of the suite they belong to."""
    part_type = types.get(list_name, "")
    for name, child in spot.items:
        label = child.named(*_LABELS) or name or part_type
        if part_type in wanted and child.items and not child.is_list:
            code = _only_code(child) if part_type == "script" else None
            folder = _FOLDERS[part_type] + (f"{_folder(holder)}/" if holder else "")
            if code is None:
                yield Cut(child.start, child.end, names.make(folder, label, suffix), "item")
            continue
        if depth < 12 and child.items:
            inner = label if part_type == "suite" else holder
            yield from _items(child, wanted, types, names, suffix, name or "", inner, depth + 1)


def _only_code(spot: Spot) -> Spot | None:
    """The text of a script that is nothing but a name and its code: that text alone becomes the file."""
    codes = [s for n, s in spot.items if n in _CODE and s.text and "\n" in s.text]
    return codes[0] if len(codes) == 1 and all(not s.items for _, s in spot.items) else None


def _folder(label: str) -> str:
    return re.sub(r"[^\w .,()+-]+", "-", label).strip(" .-")[:40] or "unnamed"


def _texts(spot: Spot, label: str, beside: Spot | None) -> Iterator[tuple[str, Spot, Spot | None]]:
    if spot.text is not None:
        if "\n" in spot.text.strip("\n"):
            yield label, spot, beside
        return
    own = spot.named(*_LABELS)
    for place, (name, child) in enumerate(spot.items, 1):
        below = f"{own or label}.{name}" if name is not None else label if len(spot.items) == 1 else f"{label}.{place}"
        yield from _texts(child, below.lstrip("."), spot if not spot.is_list else beside)


_LANGUAGES = {
    "python": ".py",
    "javascript": ".js",
    "js": ".js",
    "typescript": ".ts",
    "sql": ".sql",
    "basic": ".bas",
    "vb": ".bas",
    "vba": ".bas",
    "r": ".r",
    "julia": ".jl",
    "bash": ".sh",
    "shell": ".sh",
    "markdown": ".md",
    "html": ".html",
}
_HINTS = [
    (re.compile(r"^\s*(select|insert|update|delete|create|with)\b", re.IGNORECASE), ".sql"),
    (re.compile(r"^\s*(def |import |from \w+ import|class \w+.*:)", re.MULTILINE), ".py"),
    (re.compile(r"\bend (sub|function)\b", re.IGNORECASE), ".bas"),
    (re.compile(r"(=>|\bfunction\b|\bconst\b|\blet\b|;\s*$)", re.MULTILINE), ".js"),
    (re.compile(r"^\s*<"), ".xml"),
    (re.compile(r"^#+ ", re.MULTILINE), ".md"),
]


def text_suffix(label: str, text: str, beside: Spot | None) -> str:
    """What the text seems to be written in: said beside it, by its name, or by its first words."""
    said = beside.named("language", "lang", "type", "mimeType") if beside is not None else None
    if said and said.lower() in _LANGUAGES:
        return _LANGUAGES[said.lower()]
    if "sql" in label.lower().rpartition(".")[2]:
        return ".sql"
    return next((suffix for pattern, suffix in _HINTS if pattern.search(text[:4000])), ".txt")


def notebook_cuts(root: Spot, names: Names) -> list[Cut]:
    """The source of each cell, numbered in order; outputs and metadata stay in the frame."""
    members = dict(root.items)
    sheets = [dict(s.items) for _, s in members["worksheets"].items] if "worksheets" in members else [members]
    cells = [cell for sheet in sheets if "cells" in sheet for _, cell in sheet["cells"].items]
    code = _code_suffix(members)
    width = max(3, len(str(len(cells))))
    cuts: list[Cut] = []
    for number, cell in enumerate(cells, 1):
        held = dict(cell.items)
        source = held.get("source") or held.get("input")
        if source is None or (source.text is None and not source.is_list):
            continue
        sort = cell.named("cell_type") or "cell"
        suffix = code if sort == "code" else ".md" if sort in ("markdown", "heading") else ".txt"
        text = source.text if source.text is not None else "".join(s.text or "" for _, s in source.items)
        mode: Mode = "lines" if source.is_list else "text"
        cuts.append(Cut(source.start, source.end, names.make("cells/", f"{number:0{width}}", suffix), mode, text))
    return cuts


def _code_suffix(members: dict[str | None, Spot]) -> str:
    held = dict(members["metadata"].items) if "metadata" in members else {}
    info = held.get("language_info")
    given = info.named("file_extension") if info else None
    if given and re.fullmatch(r"\.\w{1,8}", given):
        return given
    kernel = held.get("kernelspec")
    said = (info.named("name") if info else None) or (kernel.named("language", "name") if kernel else None) or "python"
    return next((suffix for name, suffix in _LANGUAGES.items() if said.lower().startswith(name)), ".txt")


def xml_cuts(root: Tagged, kind: str, data: bytes, names: Names) -> list[Cut]:
    """Elements of the kind's types, innermost first come, and elements that hold nothing but lines of code."""
    types = kind_for(kind).table.types
    known = {**{v: v for v in types.values()}, **types, "screen": "screen", "testcase": "case", "script": "script"}
    for wanted in (_CUT_TYPES.get(kind, ()), _FALLBACK_TYPES.get(kind, ())):
        cuts = list(_elements(root, wanted, known, names, ""))
        if cuts:
            break
    for element in root.walk():
        inner = data[slice(*element.inner)]
        if element.children or b"\n" not in inner.strip() or not _CODE_ELEMENTS.search(_local(element.name)):
            continue
        label = element.attributes.get("name") or element.attributes.get("id") or _local(element.name)
        text = inner.decode("utf-8", "replace")
        file = names.make("texts/", label, text_suffix(label, text, None))
        cuts.append(Cut(element.inner[0], element.inner[1], file, "text"))
    return cuts


def _elements(
    element: Tagged, wanted: tuple[str, ...], known: dict[str, str], names: Names, holder: str
) -> Iterator[Cut]:
    for child in element.children:
        local = _local(child.name)
        part_type = known.get(local) or known.get(local[:1].lower() + local[1:], "")
        given = {_local(k).lower(): v for k, v in child.attributes.items()}
        label = next((given[n] for n in _LABELS if given.get(n)), local)
        if part_type in wanted and (child.children or child.attributes):
            folder = _FOLDERS[part_type] + (f"{_folder(holder)}/" if holder else "")
            yield Cut(child.start, child.end, names.make(folder, label, ".xml"), "item")
        else:
            yield from _elements(child, wanted, known, names, label if part_type == "suite" else holder)


def _local(name: str) -> str:
    return name.rpartition(":")[2]

"""Kinds whose versions are not compared outline against outline alone: each with the comparison it needs."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from everyshelf.core.compare.apis import compare_apis
from everyshelf.core.compare.archives import Inside, compare_archives, compare_documents, other_members
from everyshelf.core.compare.notebooks import compare_notebooks
from everyshelf.core.compare.result import Comparison
from everyshelf.core.formats.archives import open_archive
from everyshelf.core.formats.workbook_files import read_workbook
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.registry import Compare, kind_for
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Finding, Outline

Beside = Mapping[str, Path]
_MODELS = ("onnx", "safetensors", "pickle")
_DOCUMENTS = ("docx", "pptx", "odt")
_PICTURES = ("png", "jpeg", "gif")
_MOST_BESIDE = 1 << 30


def compare_own(
    contents: tuple[bytes, bytes],
    found: tuple[Recognition, Recognition],
    table: KindTable,
    inside: Inside,
    beside: tuple[Beside, Beside],
) -> Comparison | None:
    """What changed; None where outlines are enough. Raises ``UnreadableError``."""
    old, new = found
    forms = old.format, new.format
    if old.kind != new.kind:
        return None
    if new.kind == "model" and all(form in _MODELS for form in forms):
        from everyshelf.core.compare.models import ModelFile, compare_models

        sides = zip(contents, forms, beside, strict=True)
        one, other = (ModelFile(data, form, _finder(near)) for data, form, near in sides)
        return compare_models(one, other, table)
    if new.kind == "spreadsheet" and all(form in ("xlsx", "ods") for form in forms):
        from everyshelf.core.compare.spreadsheets import compare_workbooks

        members = [open_archive(data) for data in contents]
        books = [read_workbook(held, form) for held, form in zip(members, forms, strict=True)]
        result = compare_workbooks(books[0], books[1], table)
        if forms[0] == forms[1]:
            result.findings += other_members(members[0], members[1], inside, books[0].unread | books[1].unread)
        return result
    if new.kind == "document" and all(form in _DOCUMENTS for form in forms):
        return compare_documents(contents[0], contents[1], forms, table, inside)
    if new.kind == "archive" and all(form in ("zip", "tar") for form in forms):
        return compare_archives(contents[0], contents[1], inside)
    if new.kind == "picture" and all(form in _PICTURES for form in forms):
        from everyshelf.core.compare.pictures import compare_pictures

        return compare_pictures(*contents)
    return None


def _finder(beside: Beside) -> Callable[[str], bytes | None]:
    """Bytes of a file beside the artifact: only of those that were handed over, whatever a name in it says."""

    def find(name: str) -> bytes | None:
        path = beside.get(name.removeprefix("./"))
        return path.read_bytes() if path is not None and path.stat().st_size <= _MOST_BESIDE else None

    return find


_BY_TREE: dict[str, Callable[[Any, Any, KindTable], list[Finding]]] = {"api": compare_apis}
_BY_PARTS: dict[str, Compare] = {"notebook": compare_notebooks}


def compare_trees(kind: str, before: Any, after: Any, table: KindTable) -> list[Finding] | None:
    """What changed from one tree to the other, for kinds that are compared as they were parsed; None for others."""
    compare = _BY_TREE.get(kind) if kind_for(kind).compare is None else None
    if compare is None or not isinstance(before, dict) or not isinstance(after, dict):
        return None
    return compare(before, after, table)


def compare_parts(kind: str, before: Outline, after: Outline, table: KindTable) -> list[Finding] | None:
    """What changed from one outline to the other by the kind's own comparison; None where it has none."""
    compare = kind_for(kind).compare or _BY_PARTS.get(kind)
    return compare(before, after, table) if compare is not None else None

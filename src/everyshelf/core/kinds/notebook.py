"""Notebooks in nbformat 3 and 4 (https://nbformat.readthedocs.io): cells in order, outputs and editor data apart."""

from __future__ import annotations

from typing import Any

from everyshelf.core.errors import UnreadableError
from everyshelf.core.kinds.cosmetic import Cosmetic
from everyshelf.core.kinds.maker import Maker
from everyshelf.core.kinds.merge_policy import Follows, MergePolicy
from everyshelf.core.kinds.shapes import DataShape
from everyshelf.core.kinds.table import KindTable
from everyshelf.core.outline.model import Part

MERGE_POLICY = MergePolicy(
    Follows("outputs", of=("source", "input"), cleared={"outputs": [], "execution_count": None, "prompt_number": None})
)
TABLE = KindTable(
    id="notebook",
    types={"cells": "cell", "outputs": "output"},
    cosmetic_types=(
        Cosmetic(frozenset({"output", "outputs"}), "what a run put there", made=True),
        Cosmetic(
            frozenset({"kernelspec", "language_info", "widgets"}), "written by the program that runs it", made=True
        ),
        Cosmetic(frozenset({"metadata"}), "settings of editors; tags are read apart from it"),
    ),
    cosmetic_fields=(
        Cosmetic(frozenset({"execution_count", "prompt_number"}), "counted by the run", made=True),
        Cosmetic(frozenset({"nbformat", "nbformat_minor"}), "the form of the file, not what it says", made=True),
        Cosmetic(frozenset({"id"}), "made by the program; cells are matched through it", made=True),
        Cosmetic(frozenset({"collapsed"}), "how the editor shows a cell", made=True),
    ),
)
_CELL_TYPES = {"heading": "markdown"}
_OF_THE_FILE = ("cells", "worksheets", "metadata", "nbformat", "nbformat_minor")
_OWN = ("cell_type", "source", "input", "outputs", "metadata", "id", "level", "language", "attachments")


def read_notebook(tree: Any, table: KindTable) -> Part:
    """The root part: one part per cell (fields: cell type, source, tags, language), metadata as one cosmetic part."""
    if not isinstance(tree, dict):
        raise UnreadableError("a notebook is an object with cells")
    maker = Maker(table)
    cells = [_cell(c, maker) for c in _all_cells(tree) if isinstance(c, dict)]
    language = _path(tree, "metadata", "kernelspec", "language") or _path(tree, "metadata", "language_info", "name")
    fields = {
        "nbformat": tree.get("nbformat"),
        "nbformat_minor": tree.get("nbformat_minor"),
        "language": language if isinstance(language, str) else None,
    }
    unknown = {k: v for k, v in tree.items() if k not in _OF_THE_FILE}
    fields |= {k: v for k, v in unknown.items() if not isinstance(v, dict | list)}
    below = DataShape(table).members({k: v for k, v in unknown.items() if isinstance(v, dict | list)})
    return maker.part("notebook", "notebook", "", fields, [*cells, *_metadata(tree.get("metadata"), table), *below])


def _all_cells(tree: dict[str, Any]) -> list[Any]:
    """The cells of nbformat 4, or those of all worksheets of nbformat 3."""
    if isinstance(tree.get("cells"), list):
        return list(tree["cells"])
    sheets = tree.get("worksheets")
    if not isinstance(sheets, list):
        raise UnreadableError("there are neither cells nor worksheets in it")
    held = [sheet.get("cells") for sheet in sheets if isinstance(sheet, dict)]
    return [cell for cells in held if isinstance(cells, list) for cell in cells]


def _path(tree: Any, *names: str) -> Any:
    for name in names:
        tree = tree.get(name) if isinstance(tree, dict) else None
    return tree


def _text(source: Any) -> str:
    """Sources are texts or lists of lines; nbformat defines them to be the same."""
    text = "".join(str(line) for line in source) if isinstance(source, list) else str(source or "")
    return text.replace("\r\n", "\n").replace("\r", "\n")


def _cell(cell: dict[str, Any], maker: Maker) -> Part:
    source = _text(cell.get("source", cell.get("input", "")))
    kind = str(cell.get("cell_type", "code"))
    if kind == "heading":
        level = cell.get("level")
        source = f"{'#' * (level if isinstance(level, int) and 0 < level < 7 else 1)} {source}"
    given = cell.get("metadata")
    metadata: dict[str, Any] = given if isinstance(given, dict) else {}
    tags = metadata.get("tags")
    fields: dict[str, Any] = {
        "cell_type": _CELL_TYPES.get(kind, kind) if "cell_type" in cell else None,
        "source": source,
        "tags": " ".join(sorted(str(t) for t in tags)) if isinstance(tags, list) and tags else None,
        "id": cell.get("id") if isinstance(cell.get("id"), str) else None,
    }
    fields |= {k: v for k, v in cell.items() if k not in _OWN and not isinstance(v, dict | list)}
    if fields["cell_type"] == "code" and isinstance(cell.get("language"), str):
        fields["language"] = cell["language"]
    rest = {k: v for k, v in metadata.items() if k != "tags" or "tags" not in fields}
    children = _metadata(rest, maker.table)
    unknown = {k: v for k, v in cell.items() if k not in _OWN and isinstance(v, dict | list)}
    children += DataShape(maker.table).members(unknown)
    if cell.get("outputs"):
        outputs = cell["outputs"]
        fields_of_outputs: dict[str, Any] = {"count": len(outputs)} if isinstance(outputs, list | dict) else {}
        children.append(Part("outputs", "outputs", "outputs", outputs, fields_of_outputs))
    if isinstance(cell.get("attachments"), dict) and cell["attachments"]:
        children.append(Part("attachments", "attachments", "attachments", cell["attachments"]))
    first = next((line.strip() for line in source.splitlines() if line.strip()), "")
    return maker.part("cell", first or f"empty {kind} cell", None, fields, children)


def _metadata(metadata: Any, table: KindTable) -> list[Part]:
    if not isinstance(metadata, dict) or not metadata:
        return []
    return DataShape(table).members({"metadata": metadata})

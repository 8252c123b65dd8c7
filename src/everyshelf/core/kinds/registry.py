"""Which kinds there are: ours, and those other packages bring through the entry point group ``everyshelf.kinds``.

A package names an object of type ``Kind`` there::

    [project.entry-points."everyshelf.kinds"]
    tides = "skerry_tides:KIND"
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from functools import cache
from importlib.metadata import EntryPoint, entry_points
from typing import Any

from everyshelf.core.errors import InvalidError
from everyshelf.core.formats.archives import open_archive
from everyshelf.core.formats.workbook_files import read_workbook
from everyshelf.core.kinds import (
    api,
    app,
    archive,
    captured,
    document,
    model,
    notebook,
    picture,
    pipeline,
    report,
    script,
    settings,
    spreadsheet,
    testing,
    workflow,
)
from everyshelf.core.kinds.bpmn import read_bpmn
from everyshelf.core.kinds.compound import read_compound
from everyshelf.core.kinds.cwl import read_cwl
from everyshelf.core.kinds.dmn import read_dmn
from everyshelf.core.kinds.graphs import normalised, unpacked
from everyshelf.core.kinds.merge_policy import MergePolicy
from everyshelf.core.kinds.model_files import read_model
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.shapes import DataShape, XmlShape
from everyshelf.core.kinds.table import KIND_IDS, KindTable
from everyshelf.core.outline.model import Finding, Outline, Part

ENTRY_POINTS = "everyshelf.kinds"
# From what a format's parser gave (a tree, an XML element, or a text) and the table in force to the root part.
Reader = Callable[[Any, KindTable], Part]
# From both outlines and the table in force to what changed.
Compare = Callable[[Outline, Outline, KindTable], list[Finding]]


@dataclass(frozen=True)
class Kind:
    """A kind of artifact: its table, and per format how what was parsed becomes an outline.

    ``recognises`` is asked with the file's name and its first bytes before anything else is looked at; kinds that come
    with the product are recognised without it. A format without a reader is read by its syntax alone. ``realigns``:
    parts whose ids were regenerated are matched by their content. ``compare``: returns the findings from both outlines,
    for kinds that the general comparison of outlines does not serve. ``merge_policy``: what merging needs beyond the
    table.
    """

    table: KindTable
    readers: Mapping[str, Reader] = field(default_factory=dict)
    recognises: Callable[[str, bytes], Recognition | None] | None = None
    realigns: bool = False
    compare: Compare | None = None
    merge_policy: MergePolicy = field(default_factory=MergePolicy)

    @property
    def id(self) -> str:
        """The kind's id."""
        return self.table.id


def _data(tree: Any, table: KindTable) -> Part:
    return DataShape(table).root(tree, table.id)


def _graph(tree: Any, table: KindTable) -> Part:
    return _data(normalised(tree), table)


def _pipeline(tree: Any, table: KindTable) -> Part:
    return read_cwl(tree, table) if pipeline.is_cwl(tree) else _graph(tree, table)


def _app(tree: Any, table: KindTable) -> Part:
    return _data(unpacked(tree), table)


def _workflow_xml(root: Any, table: KindTable) -> Part:
    if root.name != "definitions":
        return XmlShape(table).root(root, table.id)
    is_dmn = "/DMN/" in root.tag or any(c.name == "decision" for c in root.children)
    return read_dmn(root, table) if is_dmn else read_bpmn(root, table)


def _tests_xml(root: Any, table: KindTable) -> Part:
    results = root.name in ("testsuites", "testsuite")
    return testing.read_results(root, table) if results else XmlShape(table).root(root, table.id)


def _model(form: str) -> Reader:
    return lambda data, table: read_model(data, form, table).root


def _workbook(form: str) -> Reader:
    return lambda data, table: spreadsheet.workbook_outline(read_workbook(open_archive(data), form), table)


def _document(form: str) -> Reader:
    return lambda data, table: document.read_document(open_archive(data), form, table)


def _archive(data: bytes, table: KindTable) -> Part:
    return archive.read_archive(open_archive(data), table)


def _for_data(reader: Reader) -> dict[str, Reader]:
    return dict.fromkeys(("json", "yaml", "toml"), reader)


_OURS = (
    Kind(pipeline.TABLE, _for_data(_pipeline), realigns=True),
    Kind(workflow.TABLE, {**_for_data(_graph), "xml": _workflow_xml}, realigns=True),
    Kind(app.TABLE, _for_data(_app)),
    Kind(notebook.TABLE, _for_data(notebook.read_notebook), merge_policy=notebook.MERGE_POLICY),
    Kind(testing.TABLE, {"gherkin": testing.read_gherkin, "xml": _tests_xml}),
    Kind(api.TABLE),
    Kind(script.TABLE, {"python": script.read_python, "sql": script.read_sql, "basic": script.read_basic}),
    Kind(captured.TABLE),
    Kind(settings.TABLE),
    Kind(report.TABLE, {"markdown": report.read_markdown, "html": report.read_html}),
    Kind(model.TABLE, {form: _model(form) for form in ("onnx", "safetensors", "pickle")}),
    Kind(spreadsheet.TABLE, {form: _workbook(form) for form in ("xlsx", "xlsb", "ods")}),
    Kind(document.TABLE, {**{form: _document(form) for form in ("docx", "pptx", "odt")}, "compound": read_compound}),
    Kind(archive.TABLE, dict.fromkeys(("zip", "tar"), _archive)),
    Kind(picture.TABLE, dict.fromkeys(("png", "jpeg", "gif"), picture.read_pixels)),
)
# Formats whose readers take the file's bytes as they are.
_OF_BYTES = ("model", "spreadsheet", "document", "archive", "picture")
BYTES_FORMATS = frozenset(form for kind in _OURS if kind.id in _OF_BYTES for form in kind.readers)


@cache
def kinds() -> dict[str, Kind]:
    """All kinds by id; one that a package brings replaces ours of the same id."""
    found = {kind.id: kind for kind in _OURS}
    for point in entry_points(group=ENTRY_POINTS):
        kind = _loaded(point)
        found[kind.id] = kind
    return found


def _loaded(point: EntryPoint) -> Kind:
    package = point.dist.name if point.dist is not None else point.value
    try:
        kind = point.load()
    except Exception as error:
        why = f"{type(error).__name__}: {error}"
        raise _unusable(point, package, why) from error
    if not isinstance(kind, Kind):
        raise _unusable(point, package, f"{point.value} is not an everyshelf.core.kinds.registry.Kind")
    return kind


def _unusable(point: EntryPoint, package: str, why: str) -> InvalidError:
    hint = f"Fix the package {package}, or uninstall it; see docs/kinds-inside.md."
    return InvalidError(f"the kind “{point.name}” of {package} cannot be used: {why}", code="kind.unusable", hint=hint)


@cache
def packages() -> str:
    """Names and versions of the packages that bring kinds: what was read with others is not the same result."""
    points = entry_points(group=ENTRY_POINTS)
    return " ".join(sorted(f"{p.value}@{p.dist.version}" if p.dist is not None else p.value for p in points))


def kind_ids() -> tuple[str, ...]:
    """The ids of all kinds, those without an outline and those of other packages too."""
    return tuple(dict.fromkeys([*KIND_IDS, *kinds()]))


def kind_for(identity: str) -> Kind:
    """The kind of that id, or one without a table of its own."""
    return kinds().get(identity) or Kind(KindTable(id=identity))


def recognised_by_others(name: str, head: bytes) -> Recognition | None:
    """What a kind from another package takes the file for, or None."""
    for kind in kinds().values():
        if kind.recognises is not None and (found := kind.recognises(name, head)) is not None:
            return found
    return None

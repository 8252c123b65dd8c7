"""Drawings of files: read, compared, drawn."""

from __future__ import annotations

from everyshelf.core.answers.drawings import NO_DRAWING, Drawing
from everyshelf.core.compare.artifact import ArtifactSide, compare_artifacts
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.realign import regenerated_ids, rewritten
from everyshelf.core.drawing.graph import Graph, graph_of
from everyshelf.core.drawing.overlay import overlaid
from everyshelf.core.drawing.places import Places, places_of
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.xml import Element, parse_xml
from everyshelf.core.kinds.reading import parse_tree, recognise_file, shape_tree, table_in_force
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.registry import kind_for
from everyshelf.core.kinds.rules import Rules

DRAWN_KINDS = frozenset({"pipeline", "workflow"})


def draw_file(side: ArtifactSide, rules: Rules, kind: str | None = None) -> Drawing:
    """The drawing of one version; without nodes where its kind has none or it cannot be read."""
    found = recognise_file(side.name, side.data, rules, kind)
    if found.kind not in DRAWN_KINDS:
        return NO_DRAWING
    try:
        graph = _graph(_Read(side, found), rules, side.name, {}, {})
    except (UnreadableError, RecursionError):
        return NO_DRAWING
    return overlaid(None, graph)


def draw_files(before: ArtifactSide, after: ArtifactSide, rules: Rules, kind: str | None = None) -> Drawing:
    """Both versions in one drawing; without nodes where the kind has no drawing or one side cannot be read."""
    old, new = (recognise_file(s.name, s.data, rules, kind) for s in (before, after))
    if new.kind not in DRAWN_KINDS or old.kind != new.kind:
        return NO_DRAWING
    found = compare_artifacts(before, after, CompareOptions(rules, kind))
    try:
        one, other = _Read(before, old), _Read(after, new)
        old_ids = regenerated_ids(one.tree, other.tree) if kind_for(new.kind).realigns else {}
        graphs = (
            _graph(one, rules, before.name, found.identity, {}),
            _graph(other, rules, after.name, found.identity, old_ids),
        )
    except (UnreadableError, RecursionError):
        return NO_DRAWING
    return overlaid(*graphs, found.findings)


class _Read:
    def __init__(self, side: ArtifactSide, found: Recognition) -> None:
        self.found = found
        self.tree = parse_tree(side.data, found)
        # The comparison keeps coordinates apart in a form without nesting; here they are wanted.
        self.places = places_of(parse_xml(side.data)) if isinstance(self.tree, Element) else places_of(self.tree)


def _graph(
    read: _Read, rules: Rules, name: str, identity: dict[str, list[str]], old_ids: dict[str, str]
) -> Graph | None:
    table = table_in_force(read.found, rules, name)
    outline = shape_tree(rewritten(read.tree, old_ids) if old_ids else read.tree, read.found, table)
    boxes = {old_ids.get(k, k): box for k, box in read.places.boxes.items()}
    lines = {old_ids.get(k, k): line for k, line in read.places.lines.items()}
    return graph_of(outline.root, Places(boxes, lines), identity)

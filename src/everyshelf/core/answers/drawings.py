"""Pipelines and workflows as drawings, of one version or of two at once."""

from __future__ import annotations

from typing import Literal

from everyshelf.core.answers.base import Answer

Shape = Literal["step", "event", "end", "gateway", "data", "port", "frame", "lane"]
NodeState = Literal["same", "added", "removed", "changed"]
EdgeState = Literal["same", "added", "removed", "changed", "was"]


class DrawnBox(Answer):
    """Where the file's own program drew something, in its own units."""

    x: float
    y: float
    width: float
    height: float


class DrawnNode(Answer):
    """One thing in a drawing; ``part`` is the path findings name, ``group`` the id of the frame it is in."""

    id: str
    part: str
    key: str
    type: str
    shape: Shape
    label: str
    detail: str
    group: str
    state: NodeState
    moved: bool
    before_label: str | None
    before: DrawnBox | None
    after: DrawnBox | None


class DrawnEdge(Answer):
    """One connection in a drawing; ``was`` is the old course of one that now leads elsewhere."""

    id: str
    part: str
    source: str
    target: str
    label: str
    conditional: bool
    state: EdgeState
    points: list[list[float]]


class Drawing(Answer):
    """A pipeline or workflow drawn; without nodes where the kind has no drawing. ``placed``: the file says where things
    are."""

    nodes: list[DrawnNode]
    edges: list[DrawnEdge]
    placed: bool
    note: str


NO_DRAWING = Drawing(nodes=[], edges=[], placed=False, note="")

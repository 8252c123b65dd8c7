"""Who is hit if an artifact, or a part of it, goes: level by level along what uses it and what is made through those.

Level 1 uses it itself and breaks. What such an artifact writes comes next: where the columns that pass on are known,
who uses one of those breaks too; where they are not, everything further on may give other results. Who runs or calls
an artifact that is hit gets other results as well.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Literal, NamedTuple, Protocol

from everyshelf.core.answers.uses import FileReferences, Reference, UsedPart, UsePlace, WantedPart
from everyshelf.core.uses.calls import call_form
from everyshelf.core.uses.names import call_ends

Verb = Literal["uses", "made by"]
ALL = "*"
_LOOKED_BEYOND = 50


class Node(NamedTuple):
    """An artifact of a shelf, by the key of the shelf and its path."""

    shelf: str
    path: str


@dataclass(frozen=True)
class Link:
    """What a holder says of one target: the references that mean it, and everything the holder names.

    ``exact`` is False where the target is only one that may be meant.
    """

    holder: Node
    references: tuple[Reference, ...]
    named: FileReferences
    exact: bool = True


def is_certain(named: Reference, holder: Node, target: Node) -> bool:
    """False where a name leads to another shelf without its address: only a shelf's own names are exact."""
    return holder.shelf == target.shelf or named.what == "address"


class Graph(Protocol):
    """Who names whom, wherever that is kept."""

    def links_to(
        self, asked: Sequence[tuple[Node, frozenset[str] | None]], *, writes: bool = False
    ) -> Iterable[Iterable[Link]]:
        """For each node the artifacts that read it, or that make it; with parts, at least those that may use one. What
        is not taken is not looked for."""

    def links_from(self, node: Node, *, writes: bool) -> list[tuple[Reference, Node]]:
        """What an artifact writes, or what it only reads, as far as that is there."""


@dataclass
class Reached:
    """An artifact that is hit, or used: how, how far away, through which others."""

    node: Node
    level: int
    verb: Verb
    breaks: bool
    exact: bool
    places: list[UsePlace]
    through: list[Node] = field(default_factory=list)
    parts: frozenset[str] = frozenset()


@dataclass(frozen=True)
class _Front:
    """A node from which it goes on: the parts that are hit, None for all of it."""

    node: Node
    parts: frozenset[str] | None
    breaks: bool
    exact: bool
    type: str = ""


@dataclass
class Found:
    """Artifacts in order of levels. ``further``: something lies beyond the last level; ``cut``: there are more on the
    levels than the most that were asked for."""

    reached: list[Reached]
    further: bool
    cut: bool


def impact(graph: Graph, start: Node, part: WantedPart | None, depth: int, most: int) -> Found:
    """Who is hit if ``part`` of ``start``, or all of it, is removed; on each level those that break first."""
    found: dict[Node, Reached] = {}
    first = _Front(start, frozenset({part.name}) if part else None, True, True, part.type if part else "")
    fronts: dict[int, list[_Front]] = {0: [first]}
    seen, cut = {(start, first.parts): 0}, False
    for level in range(depth):
        own = fronts.get(level, [])
        for front, links in zip(own, graph.links_to([(one.node, one.parts) for one in own]), strict=True):
            for link in links:
                places = places_used(link, front.parts, front.type)
                if not places or link.holder == start:
                    continue
                if len(found) >= most and link.holder not in found:
                    cut = True
                    break
                exact = front.exact and link.exact and any(p.exact for p in places)
                one = Reached(link.holder, level + 1, "uses", front.breaks, exact, places, [front.node])
                _add(found, one)
                for reached, following in _onward(graph, front, link, one, found, start):
                    key = following.node, following.parts
                    if reached < seen.get(key, reached + 1):
                        seen[key] = reached
                        fronts.setdefault(reached, []).append(following)
    in_depth = [one for one in found.values() if one.level <= depth]
    beyond = [front for level, further in fronts.items() if level >= depth for front in further]
    further = len(in_depth) < len(found) or _goes_on(graph, beyond, found)
    in_depth.sort(key=lambda one: (one.level, not one.breaks, one.node.shelf != start.shelf, one.node.path))
    return Found(in_depth, further, cut)


def _goes_on(graph: Graph, fronts: Sequence[_Front], found: dict[Node, Reached]) -> bool:
    """Whether something beyond the last level is hit: looked for in the first of what is left."""
    some = fronts[:_LOOKED_BEYOND]
    return any(
        link.holder not in found and places_used(link, front.parts, front.type)
        for front, links in zip(some, graph.links_to([(one.node, one.parts) for one in some]), strict=True)
        for link in links
    )


def _add(found: dict[Node, Reached], one: Reached) -> None:
    known = found.get(one.node)
    if known is None:
        found[one.node] = one
        return
    if one.level == known.level:
        known.through += [node for node in one.through if node not in known.through]
        known.places += [place for place in one.places if place not in known.places]
        known.exact = known.exact or one.exact
    known.breaks = known.breaks or one.breaks
    known.parts |= one.parts


def _onward(
    graph: Graph, front: _Front, link: Link, one: Reached, found: dict[Node, Reached], start: Node
) -> list[tuple[int, _Front]]:
    """What the holder of a link writes, and the holder itself for whoever runs it; each with its level."""
    onward = [(one.level, _Front(link.holder, None, False, one.exact))]
    texts = {reference.text for reference in link.references}
    own = set[str]()
    for reference in link.named.names:
        if reference.writes and reference.what == "table":
            own |= _passed_on(link, texts, reference.text, front.parts) or set()
    if own:  # a table that it makes itself, and that others read by its name
        onward.append((one.level, _Front(link.holder, frozenset(own), front.breaks, one.exact, "column")))
    for reference, target in graph.links_from(link.holder, writes=True):
        if target in (front.node, start):
            continue
        parts = _passed_on(link, texts, reference.text, front.parts)
        exact = one.exact and parts is not None
        where = [UsePlace(reference.place, reference.label, reference.exact)]
        made = Reached(target, one.level + 1, "made by", False, exact, where, [link.holder], parts or frozenset())
        _add(found, made)
        onward.append((one.level + 1, _Front(target, parts, front.breaks and parts is not None, exact)))
    return onward


def _passed_on(link: Link, sources: set[str], target: str, parts: frozenset[str] | None) -> frozenset[str] | None:
    """The columns of a written target that the hit ones pass on to; None if all of it may be hit."""
    flows = [flow for flow in link.named.flows if flow.source in sources and flow.target == target]
    if parts is None or not flows:
        return None
    passed = set[str]()
    for part in parts:
        own = [flow for flow in flows if flow.column.casefold() == part.casefold()]
        passed |= {flow.becomes for flow in own if flow.becomes}
        if not any(not flow.becomes for flow in own):
            passed |= {part for flow in flows if flow.column == flow.becomes == ALL}
    return frozenset(passed) or None


def places_used(link: Link, parts: frozenset[str] | None, part_type: str = "") -> list[UsePlace]:
    """The places of the holder that use the target, or one of the parts of it; none where it only makes it."""
    reads = [reference for reference in link.references if not reference.writes]
    if parts is None:
        return [UsePlace(r.place, r.label, r.exact and link.exact) for r in reads]
    found: dict[str, UsePlace] = {}
    exactly = {r.place.rstrip("/") for r in reads if r.exact and r.parts is None}
    for part in parts:
        by_words = False
        for reference in reads:
            for place in _of_reference(reference, part, part_type):
                _keep(found, place)
            by_words = by_words or (reference.parts is None and reference.what != "call")
        if by_words:
            for number in link.named.words.get(part, ()):
                place = link.named.places[number]
                exact = link.exact and any(_within(place.place, holder) for holder in exactly)
                _keep(found, UsePlace(place.place, place.label, exact))
    return list(found.values())


def _keep(found: dict[str, UsePlace], place: UsePlace) -> None:
    known = found.get(place.place)
    if known is None or (place.exact and not known.exact):
        found[place.place] = place


def _within(place: str, holder: str) -> bool:
    return place == holder or place.startswith(f"{holder}/")


def _of_reference(reference: Reference, part: str, part_type: str) -> list[UsePlace]:
    if reference.what == "call":
        path = part.rpartition(" ")[2]
        ends = call_ends(call_form(path)) if path.startswith("/") else []
        meant = bool(ends) and (ends[0] in call_ends(reference.text) or reference.text in ends)
        return [UsePlace(reference.place, reference.label, reference.exact)] if meant else []
    if reference.what in ("id", "message") and reference.text.casefold() == part.casefold():
        return [UsePlace(reference.place, reference.label, reference.exact)]
    return [
        UsePlace(used.place, used.label, used.exact and used.name != ALL)
        for used in reference.parts or ()
        if _is_part(used, part, part_type)
    ]


def _is_part(used: UsedPart, part: str, part_type: str) -> bool:
    if used.name == ALL:
        return used.type == "column" and part_type in ("", "column", "table")
    if used.type in ("input", "output") and part_type not in ("", used.type):
        return False
    same = used.name == part
    return same or (used.type == "column" and used.name.casefold() == part.casefold())


def sources(graph: Graph, start: Node, depth: int, most: int) -> Found:
    """What an artifact uses and what it is made by, level by level."""
    found: dict[Node, Reached] = {}
    front, further, cut = [start], False, False
    for level in range(1, depth + 2):
        following: list[Node] = []
        for node, links in zip(front, graph.links_to([(node, None) for node in front], writes=True), strict=True):
            for one in _sources_of(graph, node, links, level):
                if one.node == start or (one.node in found and found[one.node].level < level):
                    continue
                further = further or level > depth
                cut = cut or (level <= depth and len(found) >= most and one.node not in found)
                if further or cut:
                    break
                if one.node not in found:
                    following.append(one.node)
                _add(found, one)
        front = following
    return Found(sorted(found.values(), key=lambda one: (one.level, one.node.path)), further, cut)


def _sources_of(graph: Graph, node: Node, links: Iterable[Link], level: int) -> list[Reached]:
    found = []
    for named, target in graph.links_from(node, writes=False):
        exact = named.exact and is_certain(named, node, target)
        found.append(
            Reached(target, level, "uses", False, exact, [UsePlace(named.place, named.label, exact)], through=[node])
        )
    for link in links:
        where = [UsePlace(r.place, r.label, r.exact) for r in link.references if r.writes]
        if where:
            found.append(Reached(link.holder, level, "made by", False, where[0].exact, where, through=[node]))
    return found

"""Who uses an artifact or a part of it, what it uses, and what would be hit if it went."""

from __future__ import annotations

from everyshelf.core.answers.uses import (
    FileReferences,
    MissedName,
    PartAsked,
    Reference,
    RunsIn,
    UsedArtifact,
    UsesAnswer,
    UsingArtifact,
    WantedPart,
)
from everyshelf.core.compare.sentences import count_noun, group
from everyshelf.core.kinds.plurals import singular
from everyshelf.core.uses.impact import Link, Node, Reached, impact, places_used, sources
from everyshelf.core.uses.names import is_missed
from everyshelf.service.environments.actions.environments import list_environments
from everyshelf.service.environments.actions.manifests import recorded
from everyshelf.service.environments.models import Environment
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.listing import get_artifact
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.models import ArtifactVersion, Shelf
from everyshelf.service.uses.actions.asked import find_part
from everyshelf.service.uses.actions.graph import ShelfGraph
from everyshelf.service.uses.actions.reading import unpacked, unread_at
from everyshelf.service.uses.models import NamesRead

MOST_DEEP = 20
MOST_LISTED = 5000
_MOST_MISSING = 200


def uses_of(
    caller: Caller, shelf: Shelf, at: Resolved, path: str, *, part: str, depth: int, limit: int, exact: bool
) -> UsesAnswer:
    """Up to ``limit`` users and as many sources of an artifact at a state, level by level up to ``depth``; with
    ``part``, users of that part; with ``exact`` without guesses."""
    limit = min(limit, MOST_LISTED)
    entry, _ = get_artifact(shelf, at, path)
    unread = unread_at(caller, shelf, at)
    graph, start = ShelfGraph(caller, shelf, at), Node(shelf.key, path)
    asked, wanted = find_part(path, entry, rules_at(at.root), part) if part else (None, None)
    users_found, sources_found = impact(graph, start, wanted, depth, limit), sources(graph, start, depth, limit)
    hit = [one for one in users_found.reached if one.exact or not exact]
    used = [one for one in sources_found.reached if one.exact or not exact]
    cut = users_found.cut or sources_found.cut or graph.cut
    versions = graph.see([start, *(one.node for one in hit), *(one.node for one in used)])
    users = [_user(one, versions, shelf) for one in hit]
    environments = list_environments(shelf)
    _where_they_run(graph, shelf, environments, hit, users, wanted, start, versions)
    counts = {effect: sum(u.effect == effect for u in users) for effect in ("breaks", "alters")}
    running = {e.name: sum(u.effect == "breaks" and _runs(u, e.name) for u in users) for e in environments}
    own = versions.get(start)
    named = graph.named(start)
    return UsesAnswer(
        artifact=path,
        shelf=shelf.key,
        kind=graph.kind(start),
        version=own.number if own is not None else None,
        commit=at.commit.uid if at.commit is not None else "",
        at=at.commit.recorded if at.commit is not None else None,
        part=asked,
        depth=depth,
        used_by=users,
        uses=[_used(one, versions, shelf) for one in used],
        missing=_missing(graph, start, named.names if named is not None else []),
        counts=counts,
        hit={name: count for name, count in running.items() if count},
        environments=[environment.name for environment in environments],
        more=users_found.further or sources_found.further,
        cut=cut,
        unread=len(unread),
        sentence=_sentence(path, asked, users, counts, running, least=users_found.cut or graph.cut),
    )


def _user(one: Reached, versions: dict[Node, SeenVersion], shelf: Shelf) -> UsingArtifact:
    first = next((place for place in one.places if place.exact), one.places[0])
    version = versions.get(one.node)
    return UsingArtifact(
        level=one.level,
        shelf=one.node.shelf,
        artifact=one.node.path,
        kind=version.kind if version is not None else "opaque",
        place=first.place,
        label=first.label,
        places=len(one.places),
        verb=one.verb,
        effect="breaks" if one.breaks else "alters",
        exact=one.exact,
        through=[_told(node, shelf) for node in one.through],
        part=", ".join(sorted(one.parts)),
    )


def _used(one: Reached, versions: dict[Node, SeenVersion], shelf: Shelf) -> UsedArtifact:
    version = versions.get(one.node)
    return UsedArtifact(
        level=one.level,
        shelf=one.node.shelf,
        artifact=one.node.path,
        kind=version.kind if version is not None else "opaque",
        place=one.places[0].place,
        label=one.places[0].label,
        verb=one.verb,
        exact=one.exact,
        through=[_told(node, shelf) for node in one.through],
    )


def _told(node: Node, shelf: Shelf) -> str:
    """The path of a node; of another shelf with the key of that before it."""
    return node.path if node.shelf == shelf.key else f"{node.shelf}: {node.path}"


def _missing(graph: ShelfGraph, start: Node, names: list[Reference]) -> list[MissedName]:
    """What the artifact names exactly and that is not on its shelf."""
    found = []
    for named in names:
        here = any(node.shelf == start.shelf for node in graph.meant(named, start))
        if is_missed(named) and not here and not _is_own(graph, named, start):
            found.append(MissedName(name=named.text, place=named.place, label=named.label))
        if len(found) == _MOST_MISSING:
            break
    return found


def _is_own(graph: ShelfGraph, named: Reference, start: Node) -> bool:
    """Whether a name means something in the artifact itself."""
    own = graph.named(start)
    if named.what == "id":
        return own is not None and f"id:{named.text.casefold()}" in own.offers
    return start.path.endswith(named.text.lstrip("./"))


# --- environments ---


def _where_they_run(
    graph: ShelfGraph,
    shelf: Shelf,
    environments: list[Environment],
    hit: list[Reached],
    users: list[UsingArtifact],
    wanted: WantedPart | None,
    start: Node,
    versions: dict[Node, SeenVersion],
) -> None:
    """Say of each user of the shelf which version each environment has, and whether that uses the part as well."""
    for environment in environments:
        there = recorded(environment)
        held = {u.artifact: row.source for u in users if u.shelf == shelf.key and (row := there.get(u.artifact))}
        numbers = _numbers(shelf, held)
        other = _others_there(shelf, hit, held, versions)
        for one, user in zip(hit, users, strict=True):
            if user.shelf != shelf.key:
                continue
            content = held.get(user.artifact, "")
            version = versions.get(one.node)
            same = version is not None and version.content == content
            uses = (same or _uses_there(other, one, content, wanted, start)) if content else None
            number = numbers.get((user.artifact, content))
            user.runs_in.append(RunsIn(environment=environment.name, version=number if content else None, uses=uses))


def _numbers(shelf: Shelf, held: dict[str, str]) -> dict[tuple[str, str], int]:
    """The number of the version with each content, by path and content."""
    paths = list(held)
    found: dict[tuple[str, str], int] = {}
    for first in range(0, len(paths), 500):
        rows = ArtifactVersion.objects.filter(shelf=shelf, path__in=paths[first : first + 500], number__isnull=False)
        for path, content, number in rows.order_by("pk").values_list("path", "content", "number"):
            if held[path] == content and number is not None:
                found[path, content] = number
    return found


def _others_there(
    shelf: Shelf, hit: list[Reached], held: dict[str, str], versions: dict[Node, SeenVersion]
) -> dict[tuple[str, str], FileReferences]:
    """What the versions that an environment has name, where they are not those of the state; by path and content."""
    paths = [
        one.node.path
        for one in hit
        if one.level == 1 and one.node.shelf == shelf.key and one.node.path in held
        if (version := versions.get(one.node)) is None or version.content != held[one.node.path]
    ]
    found: dict[tuple[str, str], FileReferences] = {}
    for first in range(0, len(paths), 500):
        some = paths[first : first + 500]
        rows = NamesRead.objects.filter(version__shelf=shelf, version__path__in=some)
        rows = rows.filter(version__content__in={held[path] for path in some})
        for path, content, packed in rows.values_list("version__path", "version__content", "found"):
            if held[path] == content:
                found[path, content] = unpacked(packed)
    return found


def _uses_there(
    other: dict[tuple[str, str], FileReferences], one: Reached, content: str, wanted: WantedPart | None, start: Node
) -> bool | None:
    """Whether another version of a user uses the same; None where that version was not read, or further away."""
    named = other.get((one.node.path, content))
    if named is None:
        return None
    name = start.path.rpartition("/")[2]
    same = tuple(r for r in named.names if r.what != "file" or r.text.rpartition("/")[2] == name)
    parts = frozenset({wanted.name}) if wanted is not None else None
    return bool(places_used(Link(one.node, same, named), parts, wanted.type if wanted is not None else ""))


def _runs(user: UsingArtifact, environment: str) -> bool:
    return any(r.environment == environment and r.version is not None and r.uses is not False for r in user.runs_in)


# --- in words ---


def _sentence(
    path: str,
    part: PartAsked | None,
    users: list[UsingArtifact],
    counts: dict[str, int],
    running: dict[str, int],
    *,
    least: bool,
) -> str:
    """``least``: there are more users than were counted."""
    what = f"{singular(part.type)} {part.label} of {path}" if part is not None and part.type else path
    if part is not None and not part.type:
        what = f"{part.label} of {path}"
    gone = part is not None and part.found is False
    said = f"{path} has no part “{part.label}”; what uses that name: " if gone and part is not None else ""
    if not users:
        return f"{said}nothing." if said else f"Nothing that could be read uses {what}."
    last = [name for name, count in running.items() if count]
    where = f", {group(running[last[-1]])} of them in {last[-1]}" if last else ""
    if said:
        return f"{said}{'at least ' if least else ''}{count_noun(len(users), 'artifact')}."
    if least:
        return f"Removing {what} breaks at least {count_noun(counts['breaks'], 'user')}{where}; there are more."
    return f"Removing {what} breaks {group(counts['breaks'])} of {count_noun(len(users), 'user')}{where}."

"""Finding artifacts by the words in them, over all shelves the caller may see and none beyond."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import orjson
from django.db import connection

from everyshelf.core.answers.find import FindAnswer, FoundArtifact, FoundPlace, PlaceText
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.finding.words import Wanted, folded, wanted
from everyshelf.core.history.names import file_name
from everyshelf.service.base.paging import decode_cursor, encode_cursor
from everyshelf.service.find.actions.heads import stale_branches
from everyshelf.service.find.actions.reading import places_in, unread
from everyshelf.service.find.models import FoundVersion, HeadVersion, SeenHead
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.refs import parse_moment
from everyshelf.service.shelves.actions.shelves import visible_shelves
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

_MOST_HITS = 5_000
_MAX_PAGE = 200
_SHOWN_PLACES = 3
_NAME_WEIGHT = 8.0
_FACETS = 20


# Where a version is now: on the main branch, on another, or nowhere.
_ON_MAIN, _ON_BRANCH, _EARLIER = 3, 2, 1


@dataclass(frozen=True)
class Filters:
    """What found artifacts have to be: of these shelves and kinds, by whom, when, with which label, task or effect.
    ``larger``: of at least so many bytes."""

    shelves: list[str] = field(default_factory=list)
    kinds: list[str] = field(default_factory=list)
    by: str = ""
    since: str = ""
    until: str = ""
    label: str = ""
    task: str = ""
    effect: str = ""
    larger: int = 0

    @property
    def is_empty(self) -> bool:
        """True where they let everything through."""
        return self == Filters(shelves=self.shelves)


@dataclass(slots=True)
class _Hit:
    """An artifact with the versions of it that hold the words, the best first; the rest is said of the one that is
    shown: that of the main branch, else the first of those at the head of another, else the newest."""

    versions: list[int]
    shown: int
    rank: int
    kind: str
    author: str
    labels: str
    recorded: str
    path: str
    points: float


def find(
    caller: Caller, words: str, filters: Filters, *, history: bool, order: str, limit: int, cursor: str
) -> FindAnswer:
    """A page of the artifacts that hold all of the words, at the heads of branches or, with ``history``, ever."""
    sought = wanted(words)
    if not sought.terms and filters.is_empty:
        raise InvalidError("nothing is looked for", code="find.nothing", hint="Give a word, or a filter.")
    if order not in ("", "best", "newest", "name"):
        raise InvalidError(f"{order!r} cannot be an order", code="input.invalid", hint="Use best, newest or name.")
    shelves = _shelves(caller, filters.shelves)
    left = sum(_unread(caller, shelf, history=history) for shelf in shelves)
    hits, more = _hits(sought, shelves, filters, history=history, order=order or ("best" if sought.terms else "newest"))
    start, limit = decode_cursor(cursor), min(max(limit, 1), _MAX_PAGE)
    page = hits[start : start + limit]
    kinds, people = Counter(hit.kind for hit in hits), Counter(hit.author for hit in hits)
    labels = Counter(
        f"{key}={value}" for hit in hits if hit.labels != "{}" for key, value in orjson.loads(hit.labels).items()
    )
    return FindAnswer(
        words=words,
        total=len(hits),
        more=more,
        shelves=len(shelves),
        items=_items(page, sought, {shelf.pk: shelf for shelf in shelves}, history=history),
        next=encode_cursor(start + limit) if start + limit < len(hits) else None,
        by_kind=dict(kinds.most_common(_FACETS)),
        by_person=dict(people.most_common(_FACETS)),
        by_label=dict(labels.most_common(_FACETS)),
        commits=_commits(sought, shelves),
        unread=left,
    )


def _shelves(caller: Caller, keys: list[str]) -> list[Shelf]:
    shelves = list(visible_shelves(caller))
    missing = [key for key in keys if key not in {shelf.key for shelf in shelves}]
    if missing:
        raise MissingError(
            f"no shelf {missing[0]!r} that you may see", code="shelf.missing", hint="List them: everyshelf shelf list"
        )
    return [shelf for shelf in shelves if not keys or shelf.key in keys]


def _unread(caller: Caller, shelf: Shelf, *, history: bool) -> int:
    """How many versions are still to be read; a job does that."""
    moved = bool(stale_branches(shelf))
    is_read = not history and not moved and not SeenHead.objects.filter(branch__shelf=shelf, read=False).exists()
    left = 0 if is_read else unread(shelf, history=history).count()
    if moved or left:
        start_job(caller, "find", shelf, {"history": history})
    return max(left, 1) if moved else left


# --- in the records --------------------------------------------------------------


def _hits(
    sought: Wanted, shelves: list[Shelf], filters: Filters, *, history: bool, order: str
) -> tuple[list[_Hit], bool]:
    """Artifacts in the order that is asked for, each once, and whether there are more than are looked at: of a word
    that nearly everything holds the newest versions do."""
    if not shelves:
        return [], False
    tests, values = _tests(filters)
    score, source = "0.0", "find_foundversion f"
    if sought.terms:
        score = f"bm25(find_text, {_NAME_WEIGHT}, 1.0)"
        source = "find_text JOIN find_foundversion f ON f.id = find_text.rowid"
        tests.append("find_text MATCH %s")
        values.append(sought.expression)
    tests.append(f"f.shelf_id IN ({_marks(shelves)})")
    values += [shelf.pk for shelf in shelves]
    main = [branch for shelf in shelves if (branch := _main(shelf)) is not None]
    rank = f"CASE WHEN h.branch_id IN ({_marks(main)}) THEN {_ON_MAIN} WHEN h.id THEN {_ON_BRANCH} ELSE {_EARLIER} END"
    # Every value goes in as a parameter; what is put together are names and operators of this module.
    query = (
        f"SELECT v.id, v.artifact_id, v.kind, c.author, c.labels, c.recorded || '', v.path, {rank}, {score} "  # noqa: S608
        f"FROM {source} JOIN shelves_artifactversion v ON v.id = f.version_id "
        f"{'LEFT ' if history else ''}JOIN find_headversion h ON h.version_id = v.id "
        f"JOIN shelves_commit c ON c.id = v.commit_id WHERE {' AND '.join(tests)} "
        f"ORDER BY {'find_text.rowid' if sought.terms else 'f.id'} DESC LIMIT {_MOST_HITS + 1}"
    )
    found: dict[int, _Hit] = {}
    with connection.cursor() as cursor:
        cursor.execute(query, [*main, *values])
        rows = cursor.fetchall()
    for version, artifact, kind, author, labels, recorded, path, where, points in rows[:_MOST_HITS]:
        hit = found.get(artifact)
        if hit is None:
            found[artifact] = _Hit([version], version, where, kind, author, labels, recorded, path, points)
            continue
        if version not in hit.versions:
            hit.versions.append(version)
        hit.points = min(hit.points, points)  # the better the match, the less bm25 gives
        if where > hit.rank:
            hit.shown, hit.rank = version, where
            hit.kind, hit.author, hit.labels, hit.recorded, hit.path = kind, author, labels, recorded, path
    hits = list(found.values())
    if order == "newest":
        hits.sort(key=lambda hit: hit.recorded, reverse=True)
    elif order == "name":
        hits.sort(key=lambda hit: hit.path)
    else:
        hits.sort(key=lambda hit: hit.points)
    return hits, len(rows) > _MOST_HITS


def _marks(values: list[Any]) -> str:
    return ", ".join(["%s"] * len(values))


def _main(shelf: Shelf) -> int | None:
    return shelf.branches.filter(name=shelf.main_branch).values_list("pk", flat=True).first()


def _tests(filters: Filters) -> tuple[list[str], list[Any]]:
    tests, values = ["1"], list[Any]()
    if filters.kinds:
        tests.append(f"v.kind IN ({', '.join(['%s'] * len(filters.kinds))})")
        values += filters.kinds
    for test, value in (
        ("lower(c.author) = lower(%s)", filters.by),
        ("c.recorded >= %s", _moment(filters.since, first=True)),
        ("c.recorded <= %s", _moment(filters.until, first=False)),
        ("v.effect = %s", filters.effect),
        ("v.size >= %s", filters.larger),
        ("EXISTS (SELECT 1 FROM json_each(c.tasks) WHERE value = %s)", filters.task),
    ):
        if value:
            tests.append(test)
            values.append(value)
    if filters.label:
        key, sign, value = filters.label.partition("=")
        tests.append("EXISTS (SELECT 1 FROM json_each(c.labels) WHERE key = %s AND (%s OR value = %s))")
        values += [key, not sign, value]
    return tests, values


def _moment(text: str, *, first: bool) -> str:
    """A date or time as the records hold it."""
    return parse_moment(text, first=first).strftime("%Y-%m-%d %H:%M:%S.%f") if text else ""


def _commits(sought: Wanted, shelves: list[Shelf]) -> int:
    """How many commits say all of the words in summary or description."""
    rows = Commit.objects.filter(shelf__in=shelves)
    if not sought.terms:
        return 0
    for term in sought.terms:
        for word in term.words:
            rows = rows.filter(summary__icontains=word) | rows.filter(description__icontains=word)
    return rows.count()


# --- as interfaces get it --------------------------------------------------------


def _items(page: list[_Hit], sought: Wanted, shelves: dict[int, Shelf], *, history: bool) -> list[FoundArtifact]:
    keys = [key for hit in page for key in hit.versions]
    rows = {row.pk: row for row in ArtifactVersion.objects.filter(pk__in=keys).select_related("commit")}
    heads: dict[int, list[str]] = {}
    for version, branch in HeadVersion.objects.filter(version__in=keys).values_list("version", "branch__name"):
        heads.setdefault(version, []).append(branch)
    held = FoundVersion.objects.filter(version__in=[hit.shown for hit in page]).values_list("version", "places")
    places = {version: places_in(bytes(packed)) for version, packed in held}
    there = [hit for hit in page if hit.shown in places and hit.shown in rows]  # a shelf may be deleted meanwhile
    return [_item(hit, rows, heads, places[hit.shown], sought, shelves, history=history) for hit in there]


def _item(
    hit: _Hit,
    rows: dict[int, ArtifactVersion],
    heads: dict[int, list[str]],
    read: list[PlaceText],
    sought: Wanted,
    shelves: dict[int, Shelf],
    *,
    history: bool,
) -> FoundArtifact:
    shown = rows[hit.shown]
    shelf = shelves[shown.shelf_id]
    places = _found_places(read, sought)
    numbers = [rows[key].number for key in hit.versions if rows[key].number is not None]
    return FoundArtifact(
        shelf=shelf.key,
        shelf_name=shelf.name,
        path=shown.path,
        name=file_name(shown.path),
        kind=shown.kind,
        version=shown.number,
        author=shown.commit.author,
        recorded=shown.commit.recorded,
        summary=shown.commit.summary,
        effect=shown.effect,
        size=shown.size,
        branches=sorted({name for key in hit.versions for name in heads.get(key, ())}),
        marks=sought.marks(shown.path),
        places=[_place(place, sought) for place in places[:_SHOWN_PLACES]],
        place_count=len(places),
        first=min((n for n in numbers if n is not None), default=None) if history else None,
        last=max((n for n in numbers if n is not None), default=None) if history else None,
    )


def _found_places(places: list[PlaceText], sought: Wanted) -> list[PlaceText]:
    """Places that hold all of the words; where none does, those that hold some, the most first."""
    words = {word for term in sought.terms for word in term.words}
    near = [place for place in places if any(word in folded(place.text) for word in words)]
    held = [(place, sought.held(place.text)) for place in near]
    whole = [place for place, number in held if number == len(sought.terms)]
    return whole or [place for place, number in sorted(held, key=lambda one: -one[1]) if number]


def _place(place: PlaceText, sought: Wanted) -> FoundPlace:
    return FoundPlace(
        part=place.path,
        type=place.type,
        label=place.label,
        field=place.field,
        text=place.text,
        marks=sought.marks(place.text),
    )

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
from everyshelf.service.find.actions.heads import stale_branches
from everyshelf.service.find.actions.reading import places_in, unread
from everyshelf.service.find.models import FoundVersion, HeadVersion
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.listing import decode_cursor, encode_cursor
from everyshelf.service.shelves.actions.refs import parse_moment
from everyshelf.service.shelves.actions.shelves import visible_shelves
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

_MOST_HITS = 20_000
_MAX_PAGE = 200
_SHOWN_PLACES = 3
_NAME_WEIGHT = 8.0
_FACETS = 20


# Where a version is now: on the main branch, on another, or nowhere.
_EARLIER = 1
_RANK = (
    "coalesce((SELECT max(CASE WHEN b.name = s.main_branch THEN 3 ELSE 2 END) FROM find_headversion h "
    "JOIN shelves_branch b ON b.id = h.branch_id JOIN shelves_shelf s ON s.id = b.shelf_id "
    "WHERE h.version_id = v.id), 1)"
)


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


@dataclass
class _Hit:
    """An artifact with the versions of it that hold the words, the best first; the rest is said of the one that is
    shown: that of the main branch, else the first of those at the head of another, else the newest."""

    versions: list[int]
    shown: int
    rank: int
    kind: str
    author: str
    labels: dict[str, str]


def find(
    caller: Caller, words: str, filters: Filters, *, history: bool, order: str, limit: int, cursor: str
) -> FindAnswer:
    """A page of the artifacts that hold all of the words, at the heads of branches or, with ``history``, ever."""
    sought = wanted(words)
    if not sought.terms and filters.is_empty:
        raise InvalidError("nothing is looked for", code="find.nothing", hint="Give a word, or a filter.")
    if order not in ("", "best", "newest", "name"):
        raise InvalidError(f"{order!r} is no order", code="input.invalid", hint="It is best, newest or name.")
    shelves = _shelves(caller, filters.shelves)
    left = sum(_unread(caller, shelf, history=history) for shelf in shelves)
    hits = _hits(sought, shelves, filters, history=history, order=order or ("best" if sought.terms else "newest"))
    start, limit = decode_cursor(cursor), min(max(limit, 1), _MAX_PAGE)
    page = hits[start : start + limit]
    kinds, people = Counter(hit.kind for hit in hits), Counter(hit.author for hit in hits)
    labels = Counter(f"{key}={value}" for hit in hits for key, value in hit.labels.items())
    return FindAnswer(
        words=words,
        total=len(hits),
        shelves=len(shelves),
        items=_items(page, sought, {shelf.pk: shelf for shelf in shelves}, history=history),
        next=encode_cursor(start + limit) if start + limit < len(hits) else None,
        kinds=dict(kinds.most_common(_FACETS)),
        people=dict(people.most_common(_FACETS)),
        labels=dict(labels.most_common(_FACETS)),
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
    left = unread(shelf, history=history).count()
    if moved or left:
        start_job(caller, "find", shelf, {"history": history})
    return max(left, 1) if moved else left


# --- in the records --------------------------------------------------------------


def _hits(sought: Wanted, shelves: list[Shelf], filters: Filters, *, history: bool, order: str) -> list[_Hit]:
    """Artifacts in the order that is asked for, each once."""
    if not shelves:
        return []
    tests, values = _tests(filters)
    score = "0.0"
    source = "find_foundversion f"
    if sought.terms:
        score = f"bm25(find_text, {_NAME_WEIGHT}, 1.0)"
        source = "find_text JOIN find_foundversion f ON f.id = find_text.rowid"
        tests.append("find_text MATCH %s")
        values.append(sought.expression)
    if not history:
        tests.append("EXISTS (SELECT 1 FROM find_headversion h WHERE h.version_id = f.version_id)")
    tests.append(f"f.shelf_id IN ({', '.join(['%s'] * len(shelves))})")
    values += [shelf.pk for shelf in shelves]
    by = {"best": "score, v.id DESC", "newest": "c.recorded DESC, v.id DESC", "name": "v.path, v.id DESC"}[order]
    # Every value goes in as a parameter; what is put together are names and operators of this module.
    query = (
        f"SELECT v.id, v.artifact_id, v.kind, c.author, c.labels, {_RANK} AS rank, {score} AS score FROM {source} "  # noqa: S608
        "JOIN shelves_artifactversion v ON v.id = f.version_id JOIN shelves_commit c ON c.id = v.commit_id "
        f"WHERE {' AND '.join(tests)} ORDER BY {by} LIMIT {_MOST_HITS}"
    )
    found: dict[int, _Hit] = {}
    with connection.cursor() as cursor:
        cursor.execute(query, values)
        for version, artifact, kind, author, labels, rank, _ in cursor.fetchall():
            hit = found.setdefault(artifact, _Hit([], 0, 0, kind, author, {}))
            hit.versions.append(version)
            if rank > hit.rank or (rank == hit.rank == _EARLIER and version > hit.shown):
                hit.shown, hit.rank, hit.kind, hit.author, hit.labels = (
                    version,
                    rank,
                    kind,
                    author,
                    orjson.loads(labels),
                )
    return list(found.values())


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
    return [_item(hit, rows, heads, sought, shelves, history=history) for hit in page]


def _item(
    hit: _Hit,
    rows: dict[int, ArtifactVersion],
    heads: dict[int, list[str]],
    sought: Wanted,
    shelves: dict[int, Shelf],
    *,
    history: bool,
) -> FoundArtifact:
    shown = rows[hit.shown]
    shelf = shelves[shown.shelf_id]
    held = FoundVersion.objects.get(version=shown)
    places = _found_places(places_in(bytes(held.places)), sought)
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

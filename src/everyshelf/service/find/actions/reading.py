"""Reading the words of versions: after each commit in its job, and the rest at the first search."""

from __future__ import annotations

import zlib
from collections.abc import Callable

import msgspec
from django.db import connection, transaction
from django.db.models import QuerySet

from everyshelf.core.answers.find import PlaceText
from everyshelf.core.finding.words import words_in
from everyshelf.core.reading.messages import FileAt
from everyshelf.decoding import from_msgpack
from everyshelf.service.base.acts import aside
from everyshelf.service.base.context import get_store, reader
from everyshelf.service.find.actions.heads import note_came_read, note_read, refresh_heads
from everyshelf.service.find.models import FoundVersion
from everyshelf.service.shelves.actions.contents import as_given
from everyshelf.service.shelves.actions.listing import entry_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.models import ArtifactVersion, Commit, Shelf

Tell = Callable[[int, int, str], None]
_MOST_BYTES = 64 * 1024 * 1024
_MOST_IN_COMMIT = 2000
_AT_ONCE = 100


def read_commit(commit: Commit, give_way: Callable[[], None]) -> None:
    """Read the words of what a commit made, and where branches are now (the work of a job)."""
    came = refresh_heads(commit.shelf)
    # Not by their shelf as well: SQLite would walk all versions of the shelf to find these.
    made = ArtifactVersion.objects.filter(commit=commit, content__gt="", found=None).order_by("-pk")
    _read(made[:_MOST_IN_COMMIT], give_way=give_way)
    if came.were_read:
        for start in range(0, len(came.versions), _AT_ONCE):
            some = ArtifactVersion.objects.filter(pk__in=came.versions[start : start + _AT_ONCE])
            _read(some.filter(content__gt="", found=None).order_by("-pk"), give_way=give_way)
        note_came_read(came)
    else:
        _read(unread(commit.shelf), give_way=give_way)
        note_read(commit.shelf)


def unread(shelf: Shelf, *, history: bool = False) -> QuerySet[ArtifactVersion]:
    """Versions whose words were not read yet: those at the heads of branches, or all."""
    rows = ArtifactVersion.objects.filter(shelf=shelf, content__gt="", found=None)
    rows = rows if history else rows.filter(heads__isnull=False).distinct()
    return rows.order_by("-pk")


def read_all(shelf: Shelf, tell: Tell, *, history: bool) -> int:
    """Read everything that is unread; gives how many versions."""
    refresh_heads(shelf)
    rows = unread(shelf, history=history)
    done = _read(rows, tell)
    note_read(shelf)
    return done


def _read(rows: QuerySet[ArtifactVersion], tell: Tell | None = None, give_way: Callable[[], None] | None = None) -> int:
    keys = list(rows.values_list("pk", flat=True))  # a shelf may have more versions than fit into memory
    for start in range(0, len(keys), _AT_ONCE):
        some = ArtifactVersion.objects.filter(pk__in=keys[start : start + _AT_ONCE])
        read: list[tuple[ArtifactVersion, list[PlaceText]]] = []
        for version in some.select_related("commit", "shelf").order_by("-pk"):
            if tell is not None:
                tell(start + len(read), len(keys), version.path)
            read.append((version, _places(version)))
        _write(read)
        if give_way is not None:
            give_way()
    return len(keys)


def _places(version: ArtifactVersion) -> list[PlaceText]:
    if version.size > _MOST_BYTES and version.kind != "dataset":
        return []
    if get_store().lies_outside(version.content):
        return []  # data in place is read when someone asks for it, and found by its name
    with as_given(entry_of(version)) as file, reader() as worker:
        return worker.places(FileAt(version.path, str(file)), rules=rules_at(version.commit.root).source)


def _write(read: list[tuple[ArtifactVersion, list[PlaceText]]]) -> None:
    with aside(), transaction.atomic(), connection.cursor() as cursor:
        for version, places in read:
            row, made = FoundVersion.objects.get_or_create(
                version=version,
                defaults={"shelf": version.shelf, "places": zlib.compress(msgspec.msgpack.encode(places), 6)},
            )
            if made:  # another worker may have been quicker
                body = _words("\n".join([*dict.fromkeys(p.label for p in places), *(p.text for p in places)]))
                name = _words(f"{version.path} {version.kind}")
                cursor.execute("INSERT INTO find_text(rowid, name, body) VALUES (%s, %s, %s)", [row.pk, name, body])


def _words(text: str) -> str:
    """A text as its words, with those between capitals apart."""
    return " ".join(word for word, _, _ in words_in(text))


def places_in(packed: bytes) -> list[PlaceText]:
    """The places of a version."""
    return from_msgpack(zlib.decompress(packed), list[PlaceText])

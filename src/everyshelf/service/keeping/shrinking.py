"""Go over the versions made since the last run, and keep each as what it changes of the one before."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

import structlog
from django.db.models import F, Sum

from everyshelf.core.content.new_segments import NewSegments
from everyshelf.core.content.shrinking import Shrinker
from everyshelf.core.content.store import ContentStore
from everyshelf.core.content.stores import in_store
from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.service.base.acts import aside
from everyshelf.service.keeping.models import Tidied
from everyshelf.service.shelves.models import ArtifactVersion

log = structlog.get_logger("everyshelf.keeping")
_SMALLEST = 4 * 1024  # what is shorter gains less than it costs
_BATCH_BYTES = 256 * 1024 * 1024  # of versions, after which what was done is durable
_ROWS = 500

Progress = Callable[[int, int, str], None]


@dataclass(frozen=True)
class _Pair:
    """A version and what its artifact was before."""

    row: int
    path: str
    content: str
    older: str
    size: int
    store: str


def waiting_bytes() -> int:
    """How many bytes of versions no run has looked at."""
    rows = ArtifactVersion.objects.filter(pk__gt=tidied().version, size__gte=_SMALLEST)
    return rows.aggregate(all=Sum("size"))["all"] or 0


def tidied() -> Tidied:
    """The one row."""
    with aside():
        return Tidied.objects.get_or_create(pk=1)[0]


def shrink_new(store: ContentStore, progress: Progress, give_way: Callable[[], None]) -> int:
    """Keep new versions as deltas, in batches; returns how many pieces of contents are deltas now. After each batch
    ``give_way`` may raise: what was done counts, and the next run goes on behind it."""
    total, done, made = waiting_bytes(), 0, 0
    last = ArtifactVersion.objects.order_by("-pk").values_list("pk", flat=True).first() or 0  # later ones: the next run
    while batch := _next_batch(last):
        work = {name: _Work.of(store, name) for name in {pair.store for pair in batch}}
        try:
            for pair in batch:
                progress(done, total, pair.path)
                with in_store(pair.store):
                    made += _shrink(work[pair.store].shrinker, pair, partial(_part, progress, pair, done, total))
                done += pair.size
            for one in work.values():
                one.into.finish()
        except BaseException:
            for one in work.values():
                one.into.drop()
            raise
        store.segments.refresh()
        saved = sum(one.shrinker.saved for one in work.values())
        with aside():
            Tidied.objects.filter(pk=1).update(version=batch[-1].row, saved=F("saved") + saved)
        give_way()
    return made


@dataclass(frozen=True)
class _Work:
    """What a batch writes into one store: a delta lies where that lies which it is kept against."""

    into: NewSegments
    shrinker: Shrinker

    @classmethod
    def of(cls, store: ContentStore, name: str) -> _Work:
        into = NewSegments(store.segments.place, name)
        return cls(into, Shrinker(store, into))


def _part(progress: Progress, pair: _Pair, so_far: int, total: int, done: int, of: int) -> None:
    progress(so_far + pair.size * done // of, total, pair.path)


def _shrink(shrinker: Shrinker, pair: _Pair, progress: Callable[[int, int], None]) -> int:
    if not pair.older or pair.older == pair.content:
        return 0
    try:
        return shrinker.shrink(pair.content, pair.older, progress)
    except (MissingError, BrokenError) as error:  # ``verify`` names it; it stays as it is
        log.warning("a version was not tidied", path=pair.path, why=str(error))
        return 0


def _next_batch(last: int) -> list[_Pair]:
    """The versions to look at next, up to ``last``, in the order they were made; never none while there are some."""
    batch, size = [], 0
    for pair in _pairs(tidied().version, last):
        batch.append(pair)
        size += pair.size if pair.older else 0
        if size >= _BATCH_BYTES:
            break
    return batch


def _pairs(after: int, last: int) -> Iterator[_Pair]:
    while True:
        found = ArtifactVersion.objects.filter(pk__gt=after, pk__lte=last).annotate(store=F("commit__shelf__store"))
        rows = list(found.order_by("pk")[:_ROWS])
        if not rows:
            return
        for row in rows:
            large = row.content and row.size >= _SMALLEST
            older, size = (_before(row), row.size) if large else ("", 0)
            yield _Pair(row.pk, row.path, row.content, older, size, row.store)
        after = rows[-1].pk


def _before(row: ArtifactVersion) -> str:
    earlier = ArtifactVersion.objects.filter(artifact=row.artifact_id, pk__lt=row.pk).exclude(content="")
    return earlier.order_by("-pk").values_list("content", flat=True).first() or ""

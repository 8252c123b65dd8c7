"""The lists of a shelf that queries read: commits, artifacts, versions, findings, runs."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import orjson

from everyshelf.core.errors import InvalidError
from everyshelf.service.experiments.models import Run
from everyshelf.service.findings.listing import findings_of
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.arranging import Wanted, list_arranged
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

MOST_LISTED = 200_000
_PAGE = 1000


def write_list(caller: Caller, shelf: Shelf, at: Resolved, name: str, target: Path) -> None:
    """Write a list as lines of JSON. Raises ``InvalidError`` where it is too long, and ``FindingsReadingError``."""
    with target.open("wb") as file:
        for number, row in enumerate(_LISTS[name](caller, shelf, at)):
            if number >= MOST_LISTED:
                raise InvalidError(
                    f"{name} has over {MOST_LISTED:,} rows",
                    code="query.table",
                    hint="Lists of this length cannot be queried yet; filter them with history or browse.",
                )
            file.write(orjson.dumps(row, option=orjson.OPT_APPEND_NEWLINE | orjson.OPT_UTC_Z))


def _commits(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    fields = ("uid", "author", "time", "recorded", "summary", "description", "tasks", "labels")
    for row in shelf.commits.order_by("pk").values(*fields).iterator():
        yield {
            **row,
            "commit": row["uid"],
            "time": _plain(row["time"]),
            "recorded": _plain(row["recorded"]),
            "labels": {key: str(value) for key, value in row["labels"].items()},
        }


def _artifacts(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    start, total = 0, 1
    while start < total:
        page = list_arranged(shelf, at, Wanted(sort="path"), start, _PAGE)
        for one in page["items"]:
            yield {**one, "recorded": _plain(one["recorded"])}
        start, total = start + _PAGE, page["total"]


def _versions(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    rows = ArtifactVersion.objects.filter(shelf=shelf, number__isnull=False).order_by("pk")
    fields = ("path", "number", "kind", "size", "effect", "headline", "content")
    for row in rows.values(*fields, "commit__uid", "commit__author", "commit__recorded").iterator():
        yield {
            **row,
            "version": row["number"],
            "commit": row["commit__uid"],
            "author": row["commit__author"],
            "recorded": _plain(row["commit__recorded"]),
        }


def _plain(moment: Any) -> str | None:
    """A moment in UTC as the engine reads it."""
    return None if moment is None else moment.isoformat() if not isinstance(moment, str) else moment


def _runs(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    rows = Run.objects.filter(experiment__shelf=shelf).order_by("pk")
    fields = ("number", "branch", "state", "took_seconds", "command", "began", "parameters", "metrics")
    for row in rows.values(*fields, "experiment__key", "person__username", "commit__uid").iterator():
        yield {
            **row,
            "experiment": row["experiment__key"],
            "run": row["number"],
            "person": row["person__username"],
            "commit": row["commit__uid"],
            "began": _plain(row["began"]),
            "parameters": {name: _told(value) for name, value in row["parameters"].items()},
            "metrics": {n: v for n, v in row["metrics"].items() if isinstance(v, int | float)},
        }


def _told(value: Any) -> str:
    return value if isinstance(value, str) else orjson.dumps(value).decode()


def _findings(caller: Caller, shelf: Shelf, at: Resolved) -> Iterator[dict[str, Any]]:
    return findings_of(caller, shelf)


_LISTS = {
    "commits": _commits,
    "artifacts": _artifacts,
    "versions": _versions,
    "findings": _findings,
    "runs": _runs,
}

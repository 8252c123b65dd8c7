"""The findings of a shelf as a list: one row for each thing that a version changed."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import orjson

from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.service.base.config import get_config
from everyshelf.service.findings.keeping import FindingsReadingError, keep_findings, reader_mark, unpacked
from everyshelf.service.findings.models import VersionFindings
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

_AT_ONCE = 500
_LONGEST = 1000  # of a text before or after


def findings_of(caller: Caller, shelf: Shelf) -> Iterator[dict[str, Any]]:
    """What each version of the shelf changed against the one it was made from, oldest first.

    Raises ``FindingsReadingError`` where a job has to compare versions first.
    """
    left = keep_findings(shelf, seconds=get_config().merge_seconds)
    if left:
        job = start_job(caller, "findings", shelf, {})
        raise FindingsReadingError(job.uid, left)
    return _rows(shelf)


def _rows(shelf: Shelf) -> Iterator[dict[str, Any]]:
    fields = ("pk", "path", "number", "kind", "content", "commit__uid", "commit__author", "commit__recorded")
    last = 0
    while True:
        versions = ArtifactVersion.objects.filter(shelf=shelf, pk__gt=last).order_by("pk").values(*fields)[:_AT_ONCE]
        page = list(versions)
        if not page:
            return
        last = page[-1]["pk"]
        kept = VersionFindings.objects.filter(version__in=[row["pk"] for row in page], reader=reader_mark())
        known = {version: unpacked(found) for version, found in kept.values_list("version_id", "found")}
        for row in page:
            head = {
                "path": row["path"],
                "version": row["number"],
                "kind": row["kind"],
                "commit": row["commit__uid"],
                "author": row["commit__author"],
                "recorded": row["commit__recorded"].isoformat(),
            }
            found = known.get(row["pk"])
            if found is None:
                yield head | _without_findings(row)
                continue
            for one in found.findings:
                yield head | _told(one) | {"cut": found.cut}


def _without_findings(row: dict[str, Any]) -> dict[str, Any]:
    """A version of which nothing is kept: it came, it went, or it could not be read, and is not judged then."""
    whole = {"part": "/", "type": "artifact", "cut": False}
    if row["content"] and row["number"] != 1:
        return whole | {"action": "changed", "effect": None, "detail": "not compared: everyshelf verify says why"}
    return whole | {"action": "added" if row["content"] else "removed", "effect": "alters"}


def _told(one: FindingAnswer) -> dict[str, Any]:
    return {
        "action": one.action,
        "part": one.part,
        "type": one.type,
        "label": one.label,
        "field": one.field,
        "effect": one.effect,
        "before": _text(one.before),
        "after": _text(one.after),
        "within": one.within,
        "detail": one.detail,
    }


def _text(value: Any) -> str | None:
    if value is None:
        return None
    return (value if isinstance(value, str) else orjson.dumps(value).decode())[:_LONGEST]

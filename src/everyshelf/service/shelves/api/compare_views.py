"""Comparing two states or two versions: findings, drawings, reports."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.compare.sentences import headline
from everyshelf.core.drawing import NOTHING
from everyshelf.core.errors import ConflictError, InvalidError, MissingError
from everyshelf.core.history import Entry
from everyshelf.core.report import FORMS, report_of, written
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.shelves.actions import commits, comparison, drawings, listing
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.actions.users import add_users
from everyshelf.service.shelves.api import shapes
from everyshelf.service.shelves.api.base import PATH, ShelfView, path_of
from everyshelf.service.shelves.models import Shelf
from everyshelf.service.web.transfer import as_download

FROM = OpenApiParameter("from", str, required=True, description="The state before.")
TO = OpenApiParameter("to", str, description="The state after; the main branch if left out.")
OLD_PATH = OpenApiParameter("old_path", str, description="Where the artifact lay before, if elsewhere.")
_TYPES = {"html": "text/html; charset=utf-8", "md": "text/markdown; charset=utf-8", "json": "application/json"}
_MOST_FINDINGS = 10_000


class CompareView(ShelfView):
    """Comparing two states."""

    @extend_schema(operation_id="compare_states", responses=shapes.StateComparison, parameters=[FROM, TO])
    def get(self, request: Any, shelf: str) -> Response:
        """Which artifacts differ, and by what; a job works out what would take longer than a second."""
        caller, found = self.shelf(request, shelf)
        before, after = self.at(request, found, "from"), self.at(request, found, "to")
        result = _states(found, before, after, comparison.SHOWN_FINDINGS)
        result["job"] = None
        if result["pending"] and before.commit is not None and after.commit is not None:
            job = start_job(caller, "compare", found, {"from": before.commit.uid, "to": after.commit.uid})
            result["job"] = job.uid
        return Response(result)


class CompareArtifactView(ShelfView):
    """Comparing two versions of one artifact."""

    @extend_schema(
        operation_id="compare_artifact", responses=shapes.ArtifactComparison, parameters=[FROM, TO, PATH, OLD_PATH]
    )
    def get(self, request: Any, shelf: str) -> Response:
        """All findings; refs may also be version:N."""
        _, found = self.shelf(request, shelf)
        return Response(_one(found, request))


class CompareDrawingView(ShelfView):
    """Two versions of a pipeline or workflow in one drawing."""

    @extend_schema(operation_id="compare_drawing", responses=shapes.Drawing, parameters=[FROM, TO, PATH, OLD_PATH])
    def get(self, request: Any, shelf: str) -> Response:
        """What both have once, with what became of it; no nodes where the kind has no drawing."""
        _, found = self.shelf(request, shelf)
        _, pair = _pair(found, request)
        if pair.before is None or pair.after is None:
            alone = pair.before or pair.after
            assert alone is not None
            return Response(drawings.drawing_of(pair.path, alone, _rules(found, request)))
        if pair.before.id == pair.after.id:
            return Response(drawings.drawing_of(pair.path, pair.after, _rules(found, request)))
        drawn = drawings.drawing_between(pair.old_path, pair.before, pair.path, pair.after, _rules(found, request))
        return Response(drawn or NOTHING)


class CompareReportView(ShelfView):
    """A comparison to keep or to send."""

    @extend_schema(
        operation_id="compare_report",
        responses={(200, "text/html"): OpenApiTypes.BINARY},
        parameters=[
            FROM,
            TO,
            OpenApiParameter("path", str, description="One artifact only."),
            OLD_PATH,
            OpenApiParameter("form", str, enum=list(FORMS), description="html if left out."),
        ],
    )
    def get(self, request: Any, shelf: str) -> HttpResponse:
        """As one self-contained HTML page, Markdown or JSON."""
        _, found = self.shelf(request, shelf)
        form = request.query_params.get("form") or "html"
        if form not in FORMS:
            raise InvalidError(f"form must be one of {', '.join(FORMS)}, not {form[:40]!r}", code="report.form")
        before, after = request.query_params.get("from", ""), request.query_params.get("to") or found.main_branch
        if request.query_params.get("path"):
            path = path_of(request)
            told = {**_one(found, request), "path": path, "from": {"ref": before}, "to": {"ref": after}}
            title = f"{found.name}, {listing.display_name(path)} from {before} to {after}"
        else:
            told = _states(found, self.at(request, found, "from"), self.at(request, found, "to"), _MOST_FINDINGS)
            if told["pending"]:
                hint = "Ask for the comparison first and wait for its job."
                raise ConflictError("the comparison is still being worked out", code="compare.pending", hint=hint)
            title = f"{found.name} from {before} to {after}"
        text = written(report_of(told, title=title, made=timezone.now()), form)  # type: ignore[arg-type]
        return as_download(text, f"{title}.{form}", _TYPES[form])


def _states(shelf: Shelf, before: Resolved, after: Resolved, shown: int) -> dict[str, Any]:
    both = before.commit is not None and after.commit is not None
    budget = comparison.BUDGET_SECONDS if both else None
    result = comparison.compare_states(shelf, before, after, budget=budget, shown=shown)
    add_users(shelf, after, commits.rules_at(after.root), {a["path"]: a["findings"] for a in result["artifacts"]})
    return result


def _pair(shelf: Shelf, request: Any) -> tuple[tuple[dict[str, Any] | None, dict[str, Any] | None], comparison.Pairing]:
    """What is known of both sides, and the two contents an address asks for."""
    path = path_of(request)
    old_path = request.query_params.get("old_path") or path
    after, new = _side(shelf, request.query_params.get("to") or shelf.main_branch, path, path)
    before, old = _side(shelf, request.query_params.get("from") or shelf.main_branch, old_path, path)
    if old is None and new is None:
        raise MissingError(f"{path} is in neither state", code="artifact.missing", hint="See everyshelf browse.")
    return (before, after), comparison.Pairing(path, old_path, old, new)


def _one(shelf: Shelf, request: Any) -> dict[str, Any]:
    """The comparison of one artifact."""
    (before, after), pair = _pair(shelf, request)
    old, new = pair.before, pair.after
    if old is not None and new is not None and old.id == new.id and pair.old_path == pair.path:
        result: dict[str, Any] = {
            "equal": True,
            "findings": [],
            "read_as": "",
            "note": "",
            "counts": {},
            "effects": {"breaks": 0, "alters": 0, "cosmetic": 0},
            "identity": {},
            "truncated": False,
        }
    else:
        result = comparison.compare_pair(shelf, pair, _rules(shelf, request)) or {}
        to = request.query_params.get("to") or shelf.main_branch
        state = resolve(shelf, shelf.main_branch if to.startswith("version:") else to)
        add_users(shelf, state, _rules(shelf, request), {pair.path: result.get("findings", [])})
    kind = (after or before or {}).get("kind", "opaque")
    return {"kind": kind, **result, "headline": headline(result), "before": before, "after": after}


def _rules(shelf: Shelf, request: Any) -> Any:
    to = request.query_params.get("to") or shelf.main_branch
    return commits.rules_at(resolve(shelf, shelf.main_branch if to.startswith("version:") else to).root)


def _side(shelf: Shelf, ref: str, path: str, now: str) -> tuple[dict[str, Any] | None, Entry | None]:
    """An artifact at a ref or version, or nothing if it is not there."""
    word, _, rest = ref.partition(":")
    try:
        if word == "version" and rest.isdigit():
            version = listing.find_version(shelf, resolve(shelf, shelf.main_branch), now, int(rest))
            entry = Entry(version.path, "artifact", version.content, version.size)
        else:
            entry, version = listing.get_artifact(shelf, resolve(shelf, ref), path)  # type: ignore[assignment]
    except MissingError as error:
        if error.code != "artifact.missing":
            raise
        return None, None
    return listing.artifact_json(path, entry.id, entry.size, version), entry

"""Comparing two states or two versions: findings, drawings, reports."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from django.utils import timezone
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.drawings import Drawing
from everyshelf.core.answers.states import (
    ArtifactAt,
    ArtifactComparison,
    ComparedArtifact,
    Parted,
    Side,
    StateComparison,
)
from everyshelf.core.answers.tables import RowPage
from everyshelf.core.compare.sentences import headline
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.history.names import file_name
from everyshelf.core.history.trees import Entry
from everyshelf.core.report.document import as_artifact, report_of_artifact, report_of_states, written
from everyshelf.service.http.answers import answered
from everyshelf.service.http.reports import FORM, as_report, form_wanted
from everyshelf.service.http.views import number_of, path_of
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.shelves.actions import comparing, comparison, drawings, listing, recording
from everyshelf.service.shelves.actions.makers import made_between
from everyshelf.service.shelves.actions.pairs import Pairing, beside_of
from everyshelf.service.shelves.actions.parting import parted, since_parting
from everyshelf.service.shelves.actions.refs import Resolved, resolve
from everyshelf.service.shelves.actions.selecting import both_selected
from everyshelf.service.shelves.actions.users import add_users
from everyshelf.service.shelves.api.base import PATH, ShelfView
from everyshelf.service.shelves.models import Shelf

FROM = OpenApiParameter("from", str, required=True, description="The state before.")
TO = OpenApiParameter("to", str, description="The state after; the main branch if left out.")
OLD_PATH = OpenApiParameter("old_path", str, description="Where the artifact lay before, if elsewhere.")
_MOST_FINDINGS = 10_000
_MOST_ROWS = 500


class CompareView(ShelfView):
    """Comparing two states."""

    @extend_schema(operation_id="compare_states", responses=answered(StateComparison), parameters=[FROM, TO])
    def get(self, request: Any, shelf: str) -> Response:
        """Compare two states: which artifacts differ, and how. A branch or draft is compared from where it parted from
        the branch in from; name a commit to compare the states as they are. A job computes what takes longer."""
        caller, found = self.shelf(request, shelf)
        after = self.at(request, found, "to")
        before, parting = since_parting(found, self.at(request, found, "from"), after)
        before, after = both_selected(found, before, after)
        compared = _states(found, before, after, comparison.SHOWN_FINDINGS)
        if parting is not None:
            compared.parted, compared.sentence = parting.answer(), f"{compared.sentence} {parting.sentence()}"
        if compared.pending and before.commit is not None and after.commit is not None:
            job = start_job(caller, "compare", found, {"from": before.commit.uid, "to": after.commit.uid})
            compared.job = job.uid
        return Response(compared)


class PartedView(ShelfView):
    """Where two states parted."""

    @extend_schema(operation_id="compare_parted", responses=answered(Parted), parameters=[FROM, TO])
    def get(self, request: Any, shelf: str) -> Response:
        """Return the newest commit that two states both come from, and how many newer ones the first has; the commit is
        null where one comes from the other."""
        _, found = self.shelf(request, shelf)
        before = self.at(request, found, "from")
        parting = parted(found, before, self.at(request, found, "to"))
        if parting is not None:
            return Response(parting.answer())
        head = before.commit.uid if before.commit else None
        return Response(Parted(ref=before.ref, head=head, commit=None, newer=0))


class CompareArtifactView(ShelfView):
    """Comparing two versions of one artifact."""

    @extend_schema(
        operation_id="compare_artifact", responses=answered(ArtifactComparison), parameters=[FROM, TO, PATH, OLD_PATH]
    )
    def get(self, request: Any, shelf: str) -> Response:
        """Compare two versions of an artifact and return all findings; refs may also be version:N. A job compares large
        contents: ask again when it is done."""
        caller, found = self.shelf(request, shelf)
        compared = _one(found, request)
        if compared.pending:
            compared.job = _start(caller, found, request).uid
        return Response(compared)


class CompareDrawingView(ShelfView):
    """Two versions of a pipeline or workflow in one drawing."""

    @extend_schema(operation_id="compare_drawing", responses=answered(Drawing), parameters=[FROM, TO, PATH, OLD_PATH])
    def get(self, request: Any, shelf: str) -> Response:
        """Return two versions of an artifact in one graph, each part with what changed; without nodes for a kind
        without drawings."""
        _, found = self.shelf(request, shelf)
        _, pair = _pair(found, request)
        if pair.before is None or pair.after is None:
            alone = pair.before or pair.after
            assert alone is not None
            return Response(drawings.drawing_of(pair.path, alone, _rules(found, request)))
        if pair.before.id == pair.after.id:
            return Response(drawings.drawing_of(pair.path, pair.after, _rules(found, request)))
        drawn = drawings.drawing_between(pair.old_path, pair.before, pair.path, pair.after, _rules(found, request))
        return Response(drawn)


class CompareRowsView(ShelfView):
    """The rows of a table that differ, page by page."""

    @extend_schema(
        operation_id="compare_rows",
        responses=answered(RowPage),
        parameters=[
            FROM,
            TO,
            PATH,
            OLD_PATH,
            OpenApiParameter("start", int, description="How many rows to pass over; 0 if left out."),
            OpenApiParameter("count", int, description=f"At most {_MOST_ROWS}; 100 if left out."),
            OpenApiParameter("action", str, description="Only such rows: added, removed or changed."),
            OpenApiParameter("column", str, description="Only rows changed in this column."),
            OpenApiParameter("table", str, description="Which table, where the artifact holds several."),
        ],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """Return changed cells, before and after; none where the artifact is not a table. A million rows are kept."""
        _, found = self.shelf(request, shelf)
        _, pair = _pair(found, request)
        start, count = number_of(request, "start", 0), min(number_of(request, "count", 100), _MOST_ROWS)
        action = request.query_params.get("action", "")
        if action not in ("", "added", "removed", "changed"):
            raise InvalidError(f"action must be added, removed or changed, not {action[:40]!r}", code="input.action")
        wanted = {name: request.query_params.get(name, "") for name in ("column", "table")}
        rules = _rules(found, request)
        return Response(comparing.rows_between(pair, rules, start, count, action=action, **wanted))


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
            FORM,
        ],
    )
    def get(self, request: Any, shelf: str) -> HttpResponse:
        """Return a comparison as one self-contained HTML page, Markdown or JSON."""
        caller, found = self.shelf(request, shelf)
        form = form_wanted(request)
        before, after = request.query_params.get("from", ""), request.query_params.get("to") or found.main_branch
        if request.query_params.get("path"):
            path = path_of(request)
            one = _one(found, request)
            if one.pending:
                raise comparison.ComparePendingError(_start(caller, found, request).uid)
            title = f"{found.name}, {file_name(path)} from {before} to {after}"
            report = report_of_artifact(_reported(one, path), title=title, made=timezone.now())
        else:
            state = self.at(request, found, "to")
            start = since_parting(found, self.at(request, found, "from"), state)[0]
            start, state = both_selected(found, start, state)
            states = comparison.compare_whole(caller, found, start, state, shown=_MOST_FINDINGS)
            _add_users(found, state, states)
            title = f"{found.name} from {before} to {after}"
            commits = made_between(found, start, state, states.artifacts)
            report = report_of_states(states, title=title, made=timezone.now(), commits=commits)
        return as_report(written(report, form), title, form)


def _reported(compared: ArtifactComparison, path: str) -> ComparedArtifact:
    artifact = as_artifact(compared, path)
    artifact.before, artifact.after = (
        Side(version=side.version, content=side.content, size=side.size) if side is not None else None
        for side in (compared.before, compared.after)
    )
    return artifact


def _states(shelf: Shelf, before: Resolved, after: Resolved, shown: int) -> StateComparison:
    both = before.commit is not None and after.commit is not None
    # No job can look at a draft, which is nobody else's: it is worked out here.
    budget = comparison.BUDGET_SECONDS if both and "draft" not in (before.kind, after.kind) else None
    compared = comparison.compare_states(shelf, before, after, budget=budget, shown=shown)
    _add_users(shelf, after, compared)
    return compared


def _add_users(shelf: Shelf, after: Resolved, compared: StateComparison) -> None:
    add_users(shelf, after, recording.rules_at(after.root), {a.path: a.findings for a in compared.artifacts})


def _pair(shelf: Shelf, request: Any) -> tuple[tuple[ArtifactAt | None, ArtifactAt | None], Pairing]:
    """What is known of both sides, and the two contents an address asks for."""
    path = path_of(request)
    old_path = request.query_params.get("old_path") or path
    after, new, after_beside = _side(
        shelf, request.query_params.get("to") or shelf.main_branch, path, path, request.user
    )
    before, old, before_beside = _side(shelf, _from(shelf, request), old_path, path, request.user)
    if old is None and new is None:
        raise MissingError(f"{path} exists in neither state", code="artifact.missing", hint="See everyshelf browse.")
    return (before, after), Pairing(path, old_path, old, new, (before_beside, after_beside))


def _from(shelf: Shelf, request: Any) -> str:
    """The ref to compare from: where the two parted, for branches and drafts."""
    names = [request.query_params.get(side) or shelf.main_branch for side in ("from", "to")]
    if any(name.startswith("version:") for name in names):
        return names[0]
    _, parting = since_parting(shelf, resolve(shelf, names[0], request.user), resolve(shelf, names[1], request.user))
    return f"commit:{parting.commit.uid}" if parting is not None else names[0]


def _one(shelf: Shelf, request: Any) -> ArtifactComparison:
    """The comparison of one artifact."""
    (before, after), pair = _pair(shelf, request)
    known = after or before
    kind = known.kind if known is not None else "opaque"
    pending = False
    if pair.is_same and pair.old_path == pair.path:
        found = comparing.nothing_changed(kind)
    else:
        worked_out = comparing.compare_pair(pair, _rules(shelf, request), "request")
        pending = worked_out is None
        if worked_out is None:
            found = comparing.nothing_changed(kind)
            found.equal, found.note = False, "still being compared"
        else:
            found = worked_out
            to = request.query_params.get("to") or shelf.main_branch
            state = resolve(shelf, shelf.main_branch if to.startswith("version:") else to, request.user)
            add_users(shelf, state, _rules(shelf, request), {pair.path: found.findings})
    fields = {name: getattr(found, name) for name in found.__struct_fields__}
    return ArtifactComparison(
        **{**fields, "kind": found.kind or kind},
        headline=headline(found),
        before=before,
        after=after,
        pending=pending,
        job=None,
    )


def _start(caller: Any, shelf: Shelf, request: Any) -> Any:
    """The job that compares what is too large for a request."""
    _, pair = _pair(shelf, request)
    assert pair.before is not None and pair.after is not None
    given = {
        "before_path": pair.old_path,
        "before": pair.before.id,
        "before_size": pair.before.size,
        "before_type": pair.before.type,
        "after_path": pair.path,
        "after": pair.after.id,
        "after_size": pair.after.size,
        "after_type": pair.after.type,
        "rules": _rules(shelf, request).source,
        "beside": [{name: [entry.id, entry.size] for name, entry in side.items()} for side in pair.beside],
    }
    return start_job(caller, "compare-artifact", shelf, given)


def _rules(shelf: Shelf, request: Any) -> Any:
    to = request.query_params.get("to") or shelf.main_branch
    return recording.rules_at(resolve(shelf, shelf.main_branch if to.startswith("version:") else to, request.user).root)


def _side(
    shelf: Shelf, ref: str, path: str, now: str, person: Any
) -> tuple[ArtifactAt | None, Entry | None, dict[str, Entry]]:
    """An artifact at a ref or version and what lies beside it, or nothing if it is not there."""
    word, _, rest = ref.partition(":")
    try:
        if word == "version" and rest.isascii() and rest.isdigit() and len(rest) < 10:
            state = resolve(shelf, shelf.main_branch)
            version = listing.find_version(shelf, state, now, int(rest))
            root, path = version.commit.root, version.path
            entry = listing.entry_of(version)
        else:
            state = resolve(shelf, ref, person)
            entry, version = listing.get_artifact(shelf, state, path)  # type: ignore[assignment]
            root = state.root
    except MissingError as error:
        if error.code != "artifact.missing":
            raise
        return None, None, {}
    artifact = ArtifactAt(**listing.describe_one(state, path, entry, version))
    return artifact, entry, beside_of(root, path, entry)

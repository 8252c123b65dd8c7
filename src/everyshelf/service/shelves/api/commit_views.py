"""Commits: listed, made, restored and undone."""

from __future__ import annotations

from typing import Any

from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.commits import Undoing
from everyshelf.service.http.answers import answered
from everyshelf.service.http.views import number, valid
from everyshelf.service.shelves.actions import committing, histories, listing, long_commits, undoing
from everyshelf.service.shelves.actions.refs import parse_moment, resolve
from everyshelf.service.shelves.api import shapes
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, REF, ShelfView, message_of
from everyshelf.service.shelves.models import Commit, Shelf

SOUGHT = {
    "from": "A ref: only commits that its line lacks.",
    "since": "Recorded on this day or later; a date or a time.",
    "until": "Recorded on this day or earlier.",
    "by": "Author.",
    "label": "A label, KEY or KEY=VALUE.",
    "task": "Id of a task.",
    "path": "What touched this artifact, under all of its names, or this folder.",
    "kind": "What touched an artifact of this kind.",
    "effect": "What had this effect on an artifact: breaks, alters, cosmetic.",
    "words": "All of these words in the summary or the description.",
    "order": "newest (first, the default) or oldest.",
}
SOUGHT_PARAMETERS = [OpenApiParameter(name, str, description=said) for name, said in SOUGHT.items()]


class HistoryView(ShelfView):
    """A view of the commits of a line, filtered by what is given."""

    def sought(self, request: Any, shelf: Shelf) -> histories.Sought:
        """The filters an address names."""
        given = {name: request.query_params.get(name, "") for name in SOUGHT}
        return histories.Sought(
            start=self.at(request, shelf, "from") if given["from"] else None,
            since=parse_moment(given["since"], first=True) if given["since"] else None,
            until=parse_moment(given["until"]) if given["until"] else None,
            order=given["order"] or "newest",
            **{name: given[name] for name in ("by", "label", "task", "path", "kind", "effect", "words")},
        )


class CommitsView(HistoryView):
    """History."""

    @extend_schema(
        operation_id="commits_list",
        responses=shapes.CommitPage,
        parameters=[REF, LIMIT, CURSOR, *SOUGHT_PARAMETERS],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List the commits in the line of a ref, newest first, filtered by what is given."""
        _, found = self.shelf(request, shelf)
        sought = self.sought(request, found)
        page = histories.list_commits(
            found,
            self.at(request, found),
            sought,
            limit=number(request, "limit", 100),
            cursor=request.query_params.get("cursor", ""),
        )
        return Response(page)

    @extend_schema(operation_id="commits_make", request=shapes.NewCommit, responses={201: shapes.CommitOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Commit changes, all or none. Of more than a thousand, a job makes it: the call answers commit.working with
        the job's id, and asked again with the same key when that is done, it gives the commit."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.NewCommit, request)
        wanted = [committing.ChangeRequest(c["path"], c["content"], c["moved_from"]) for c in values["changes"]]
        message = message_of(values)
        key = request.headers.get("Idempotency-Key", "")[:100]
        if key and long_commits.is_long(wanted, message, merge=values["merge"]):
            made = long_commits.commit_by_job(caller, found, values["branch"], values["base"], wanted, message, key)
        else:
            made = committing.commit_changes(
                caller,
                found,
                values["branch"],
                values["base"],
                wanted,
                message,
                merge=values["merge"],
                prefer=values["prefer"],
            )
        return Response(listing.commit_json(made), status=201)


class CommitView(ShelfView):
    """One commit."""

    @extend_schema(operation_id="commits_get", responses=shapes.CommitOut)
    def get(self, request: Any, shelf: str, uid: str) -> Response:
        """Return a commit with its summary, description, labels and tasks."""
        _, found = self.shelf(request, shelf)
        return Response(listing.commit_json(_commit(found, uid)))


class UndoView(ShelfView):
    """Undoing one commit."""

    @extend_schema(
        operation_id="commits_undoing",
        responses=answered(Undoing),
        parameters=[OpenApiParameter("branch", str, description="The branch to undo it on; default: the main branch.")],
    )
    def get(self, request: Any, shelf: str, uid: str) -> Response:
        """Return what undoing a commit would do: what goes back, what keeps later changes, what is to be settled."""
        caller, found = self.shelf(request, shelf)
        branch = request.query_params.get("branch") or found.main_branch
        return Response(undoing.look_at_undoing(caller, found, branch, _commit(found, uid)))

    @extend_schema(operation_id="commits_undo", request=shapes.UndoIn, responses={201: shapes.CommitOut})
    def post(self, request: Any, shelf: str, uid: str) -> Response:
        """Undo what a commit changed, as a new commit; later changes stay. Conflicts that are to be settled
        first are answered with 409 merge.conflict."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.UndoIn, request)
        commit = _commit(found, uid)
        message = message_of(values, f"Undo “{commit.summary}”"[:300])
        made = undoing.undo(caller, found, values["branch"] or found.main_branch, commit, message, values["prefer"])
        return Response(listing.commit_json(made), status=201)


class RestoreView(ShelfView):
    """Bringing back."""

    @extend_schema(operation_id="shelves_restore", request=shapes.RestoreIn, responses={201: shapes.CommitOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Restore an artifact or the whole shelf to an earlier state, as a new commit."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.RestoreIn, request)
        source = _restored_from(found, values)
        what = values["path"] or "the shelf"
        message = message_of(values, f"Bring {what} back from {values['ref']}"[:300])
        made: Commit = committing.restore(caller, found, values["branch"], source, values["path"], message)
        return Response(listing.commit_json(made), status=201)


def _restored_from(shelf: Shelf, values: dict[str, Any]) -> str:
    """The root to restore from; ``version:N`` means the commit that made that version of the artifact."""
    word, _, rest = values["ref"].partition(":")
    if word == "version" and values["path"] and rest.isascii() and rest.isdigit() and len(rest) < 10:
        at = resolve(shelf, values["branch"])
        return listing.find_version(shelf, at, values["path"], int(rest)).commit.root
    return resolve(shelf, values["ref"]).root


def _commit(shelf: Shelf, uid: str) -> Commit:
    commit = resolve(shelf, f"commit:{uid}").commit
    assert commit is not None
    return commit

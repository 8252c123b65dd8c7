"""Artifacts, contents and commits."""

from __future__ import annotations

from typing import Any

import msgspec
from django.http import HttpResponseBase
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.drawings import Drawing
from everyshelf.core.answers.files import ArtifactCells, UnfoldedAnswer
from everyshelf.core.answers.outlines import OutlineAnswer
from everyshelf.core.answers.tables import ROW_TESTS, TableRows
from everyshelf.core.editing.edits import CellEdit, FieldEdit
from everyshelf.core.errors import InvalidError, MissingError
from everyshelf.core.history.names import did_you_mean, nearest
from everyshelf.core.history.trees import Entry
from everyshelf.service.http.answers import answered
from everyshelf.service.http.transfer import as_download, body_pieces, has_left, send_content, send_file, send_pieces
from everyshelf.service.http.views import flag, number, number_of, path_of, valid
from everyshelf.service.shelves.actions import (
    arranging,
    contents,
    copying,
    drawings,
    editing,
    listing,
    outlines,
    recording,
    table_rows,
    unfolding,
    zipping,
)
from everyshelf.service.shelves.actions.refs import Resolved, parse_moment, resolve
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.actions.selecting import as_selected
from everyshelf.service.shelves.api import shapes
from everyshelf.service.shelves.api.base import CURSOR, LIMIT, PATH, REF, VERSION, ShelfView
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

_ARRANGED = {
    "kind": "Only artifacts of this kind.",
    "by": "Only artifacts last changed by this author.",
    "effect": "Only artifacts whose last change had this effect.",
    "words": "All of these words in the path, the last commit's summary or its author.",
    "label": "Only artifacts whose last commit has this label: KEY or KEY=VALUE.",
    "since": "Only artifacts changed on this day or later; a date or a time.",
    "state": "edited: only what you have changed on this branch and not committed yet; same: only the rest.",
    "sort": f"{', '.join(arranging.SORTS)}; with a minus the other way round.",
}
_STATES = ("edited", "same")


class ArtifactsView(ShelfView):
    """What lies on the shelf."""

    @extend_schema(
        operation_id="artifacts_list",
        responses=shapes.ArtifactPage,
        parameters=[
            REF,
            OpenApiParameter("folder", str, description="Only what lies in this folder."),
            OpenApiParameter("files", bool, description="Every file of a folder kept whole, instead of the folder."),
            LIMIT,
            CURSOR,
            *(OpenApiParameter(name, str, description=said) for name, said in _ARRANGED.items()),
            OpenApiParameter("start", int, description="With these: the place from which the page goes, from 0."),
        ],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List artifacts at a ref by path, or filtered and sorted. A page that follows is of the same state where the
        ref is `commit:` and the commit of the first page."""
        _, found = self.shelf(request, shelf)
        at = as_selected(found, self.at(request, found))
        if any(request.query_params.get(name) for name in _ARRANGED):
            wanted = self._wanted(request, found, at)
            start, limit = number_of(request, "start", 0), number(request, "limit", 200)
            arranged = arranging.list_arranged(found, at, wanted, start, limit)
            return Response({"ref": at.ref, "commit": at.commit.uid if at.commit else None, **arranged})
        page = listing.list_artifacts(
            found,
            at,
            folder=request.query_params.get("folder", ""),
            limit=number(request, "limit", 500),
            cursor=request.query_params.get("cursor", ""),
            files=flag(request, "files"),
        )
        return Response({"ref": at.ref, "commit": at.commit.uid if at.commit else None, **page})

    def _wanted(self, request: Any, shelf: Shelf, at: Resolved) -> arranging.Wanted:
        given = {name: request.query_params.get(name, "") for name in ("folder", *_ARRANGED)}
        since, state = given.pop("since"), given.pop("state")
        if state and state not in _STATES:
            hint = f"{did_you_mean(nearest(state, _STATES))}Known are {' and '.join(_STATES)}."
            raise InvalidError(f"unknown state {state[:40]!r}", code="input.unknown", pointer="/state", hint=hint)
        edited = arranging.edited_by(request.user, shelf, at.ref) if state else frozenset()
        return arranging.Wanted(
            **{**given, "sort": given["sort"] or "path"},
            since=parse_moment(since, first=True) if since else None,
            only=edited if state == "edited" else None,
            without=edited if state == "same" else frozenset(),
        )


class SummaryView(ShelfView):
    """A state in short."""

    @extend_schema(operation_id="artifacts_summary", responses=shapes.StateSummary, parameters=[REF])
    def get(self, request: Any, shelf: str) -> Response:
        """Return a state in short: its kinds with the newest artifacts of each, its folders and people, and how much
        there is."""
        _, found = self.shelf(request, shelf)
        at = as_selected(found, self.at(request, found))
        told = arranging.summary_of(found, at)
        return Response({"ref": at.ref, "commit": at.commit.uid if at.commit else None, **told})


class _ArtifactView(ShelfView):
    def located(
        self, request: Any, key: str
    ) -> tuple[Shelf, Resolved, str, Entry, ArtifactVersion | SeenVersion | None]:
        """The artifact an address names by path and ref, or by path and version."""
        _, shelf = self.shelf(request, key)
        at, path = self.at(request, shelf), path_of(request)
        if "version" not in request.query_params:
            return shelf, at, path, *listing.get_artifact(shelf, at, path)
        version = listing.find_version(shelf, at, path, number(request, "version", 1))
        if not version.content:
            raise MissingError(f"{path} was removed in that version", code="version.missing")
        return shelf, at, version.path, listing.entry_of(version), version


class ArtifactView(_ArtifactView):
    """One artifact."""

    @extend_schema(operation_id="artifact_get", responses=shapes.ArtifactOut, parameters=[PATH, REF, VERSION])
    def get(self, request: Any, shelf: str) -> Response:
        """Return an artifact at a ref or version."""
        _, at, path, entry, version = self.located(request, shelf)
        within = listing.within(at, path) if "version" not in request.query_params else ""
        return Response(listing.describe_one(at, path, entry, version, within))


class ArtifactHistoryView(_ArtifactView):
    """Versions of an artifact."""

    @extend_schema(
        operation_id="artifact_history", responses=shapes.ArtifactVersionPage, parameters=[PATH, REF, LIMIT, CURSOR]
    )
    def get(self, request: Any, shelf: str) -> Response:
        """List the versions of an artifact, newest first, over all branches."""
        _, found = self.shelf(request, shelf)
        page = listing.artifact_history(
            found,
            self.at(request, found),
            path_of(request),
            limit=number(request, "limit", 100),
            cursor=request.query_params.get("cursor", ""),
        )
        return Response(page)


class ArtifactOutlineView(_ArtifactView):
    """The outline of an artifact."""

    @extend_schema(operation_id="artifact_outline", responses=answered(OutlineAnswer), parameters=[PATH, REF, VERSION])
    def get(self, request: Any, shelf: str) -> Response:
        """Return an artifact's outline: its parts and their fields."""
        _, at, path, entry, _ = self.located(request, shelf)
        return Response(outlines.outline_of(path, entry, recording.rules_at(at.root)))


class ArtifactDrawingView(_ArtifactView):
    """A pipeline or workflow as a drawing."""

    @extend_schema(operation_id="artifact_drawing", responses=answered(Drawing), parameters=[PATH, REF, VERSION])
    def get(self, request: Any, shelf: str) -> Response:
        """Return an artifact as a graph of its parts and what leads to what; without nodes for kinds that have none."""
        _, at, path, entry, _ = self.located(request, shelf)
        return Response(drawings.drawing_of(path, entry, recording.rules_at(at.root)))


class ArtifactPartsView(_ArtifactView):
    """An artifact unfolded."""

    @extend_schema(
        operation_id="artifact_unfolded", responses=answered(UnfoldedAnswer), parameters=[PATH, REF, VERSION]
    )
    def get(self, request: Any, shelf: str) -> Response:
        """Return the parts of an artifact as files, with their texts."""
        _, at, path, entry, _ = self.located(request, shelf)
        unfolded, _ = unfolding.unfold_artifact(path, entry, recording.rules_at(at.root))
        return Response(unfolded)


class ArtifactPartsFileView(_ArtifactView):
    """An artifact unfolded, to take away."""

    @extend_schema(
        operation_id="artifact_unfolded_file",
        responses={(200, "application/zip"): OpenApiTypes.BINARY},
        parameters=[PATH, REF, VERSION],
    )
    def get(self, request: Any, shelf: str) -> HttpResponseBase:
        """Download the parts of an artifact as one zip, with what is needed to fold them again."""
        _, at, path, entry, _ = self.located(request, shelf)
        _, data = unfolding.unfold_artifact(path, entry, recording.rules_at(at.root))
        return as_download(data, f"{path.rpartition('/')[2]}.unfolded.zip", "application/zip")


class FoldView(ShelfView):
    """Parts as one content again."""

    @extend_schema(operation_id="contents_fold", request=shapes.FoldIn, responses={201: shapes.FoldedOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Fold a zip of parts, stored before, into a content."""
        _, found = self.shelf(request, shelf, "commit")
        info, folded = unfolding.fold_content(found, valid(shapes.FoldIn, request)["content"])
        made = {"id": info.id, "size": info.size, "name": folded.name, "notes": folded.notes}
        return Response(made, status=201)


class ArtifactCellsView(_ArtifactView):
    """A small table, for editing it by cell."""

    @extend_schema(operation_id="artifact_cells", responses=answered(ArtifactCells), parameters=[PATH, REF, VERSION])
    def get(self, request: Any, shelf: str) -> Response:
        """Return the cells of an artifact as texts, in the order of the file; none if it is too large or not a plain
        table."""
        _, _, path, entry, _ = self.located(request, shelf)
        cells = editing.cells_of(path, entry)
        return Response(ArtifactCells(content=entry.id, **msgspec.structs.asdict(cells)))


class ArtifactRowsView(_ArtifactView):
    """The rows of a table."""

    @extend_schema(
        operation_id="artifact_rows",
        responses=answered(TableRows),
        parameters=[
            PATH,
            REF,
            VERSION,
            OpenApiParameter("table", str, description="Which table, of a database."),
            OpenApiParameter("start", int, description="How many rows to pass over; 0 if left out."),
            OpenApiParameter("count", int, description="How many rows; 100 if left out, at most 1000."),
            OpenApiParameter(
                "sort", str, many=True, description="A column; with a minus before it the other way round."
            ),
            OpenApiParameter(
                "where",
                str,
                many=True,
                description=f"A condition, COLUMN TEST VALUE; tests: {', '.join(ROW_TESTS)}.",
            ),
        ],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """Return rows of a table of any size, sorted by columns and with conditions on them. A large table is read by a
        job first (`rows.reading`)."""
        caller, found = self.shelf(request, shelf)
        _, at, path, entry, _ = self.located(request, shelf)
        given = request.query_params
        wanted = table_rows.WantedRows(
            number_of(request, "start", 0),
            number(request, "count", 100),
            given.getlist("sort"),
            given.getlist("where"),
            given.get("table", ""),
        )
        return Response(table_rows.rows_of(caller, found, path, entry, recording.rules_at(at.root), wanted))


class EditView(ShelfView):
    """Editing a content by field or by cell."""

    @extend_schema(operation_id="contents_edit", request=shapes.EditIn, responses={201: shapes.ContentOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Make a content that differs from another only in these fields and cells; save it in a draft to keep it."""
        _, found = self.shelf(request, shelf, "commit")
        values = valid(shapes.EditIn, request)
        at = resolve(found, values["ref"] or found.main_branch, request.user)
        info = editing.edit_content(
            found,
            at.root,
            values["path"],
            values["content"],
            text=values["text"],
            fields=[FieldEdit(**edit) for edit in values["parts"]],
            cells=[CellEdit(**edit) for edit in values["cells"]],
        )
        return Response({"id": info.id, "size": info.size}, status=201)


class ArtifactTextView(_ArtifactView):
    """An artifact as text."""

    @extend_schema(
        operation_id="artifact_text",
        responses=shapes.TextOut,
        parameters=[PATH, REF, VERSION, OpenApiParameter("encoding", str)],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """Return the first two megabytes of an artifact as text, in a detected or chosen encoding."""
        _, _, _, entry, _ = self.located(request, shelf)
        return Response(outlines.text_of(entry, request.query_params.get("encoding")))


class ArtifactFileView(_ArtifactView):
    """An artifact as a file."""

    @extend_schema(operation_id="artifact_file", responses={200: OpenApiTypes.BINARY}, parameters=[PATH, REF, VERSION])
    def get(self, request: Any, shelf: str) -> HttpResponseBase:
        """Download an artifact. Ranges are supported; a folder kept whole comes as a zip."""
        _, _, path, entry, _ = self.located(request, shelf)
        if entry.type == "whole":
            return send_file(contents.zip_of(entry), f"{path.rpartition('/')[2]}.zip", "application/zip")
        return send_content(request, entry.id, entry.size, path.rpartition("/")[2])


class ZipView(ShelfView):
    """A folder, or some artifacts, as one file."""

    @extend_schema(
        operation_id="artifacts_zip",
        responses={(200, "application/zip"): OpenApiTypes.BINARY},
        parameters=[
            REF,
            OpenApiParameter("folder", str, description="What lies in this folder; everything if left out."),
            OpenApiParameter("path", str, many=True, description="These artifacts instead; may be repeated."),
        ],
    )
    def get(self, request: Any, shelf: str) -> HttpResponseBase:
        """Download a folder, some artifacts or all of a state as a zip, which is made while it is sent."""
        _, found = self.shelf(request, shelf)
        at, folder = as_selected(found, self.at(request, found)), request.query_params.get("folder", "")
        files = zipping.files_to_zip(found, at, folder, request.query_params.getlist("path"))
        name = folder.rstrip("/").rpartition("/")[2] or found.key
        return send_pieces(zipping.ZipPieces(files, at.commit.recorded if at.commit else None), f"{name}.zip")


class ContentsView(ShelfView):
    """Contents going in."""

    takes_bytes = True

    @extend_schema(
        operation_id="contents_put",
        request={"application/octet-stream": OpenApiTypes.BINARY},
        responses={201: shapes.ContentOut},
    )
    def put(self, request: Any, shelf: str) -> Response:
        """Store the raw body as a content; the service computes its id."""
        caller, found = self.shelf(request, shelf, "commit")
        pieces, size = body_pieces(request._request)
        with contents.turn_to_take_in(caller, size, has_left(request._request)):
            info = contents.take_in(found, pieces, size)
        return Response({"id": info.id, "size": info.size}, status=201)


class ManyContentsView(ShelfView):
    """Several contents going in or out at once."""

    takes_bytes = True

    @extend_schema(
        operation_id="contents_put_many",
        request={"application/octet-stream": OpenApiTypes.BINARY},
        responses={201: shapes.ContentsOut},
    )
    def put(self, request: Any, shelf: str) -> Response:
        """Store several small contents from one body, each after its length (8 bytes, big-endian); ids in order."""
        _, found = self.shelf(request, shelf, "commit")
        taken = contents.take_in_many(found, *body_pieces(request._request))
        return Response({"contents": [{"id": info.id, "size": info.size} for info in taken]}, status=201)

    @extend_schema(
        operation_id="contents_read_many",
        request=shapes.ContentIds,
        responses={(200, "application/octet-stream"): OpenApiTypes.BINARY},
    )
    def post(self, request: Any, shelf: str) -> HttpResponseBase:
        """Return several small contents in one answer, each after its length (8 bytes, big-endian), in order."""
        _, found = self.shelf(request, shelf)
        data = contents.read_many(found, valid(shapes.ContentIds, request)["ids"])
        return as_download(data, "contents", "application/octet-stream")


class MissingContentsView(ShelfView):
    """Which contents have to be sent."""

    looks = True

    @extend_schema(operation_id="contents_missing", request=shapes.ContentIds, responses=shapes.MissingOut)
    def post(self, request: Any, shelf: str) -> Response:
        """List those of the given contents that the shelf does not have."""
        _, found = self.shelf(request, shelf)
        return Response({"missing": contents.missing_of(found, valid(shapes.ContentIds, request)["ids"])})


class ContentView(ShelfView):
    """Contents going out."""

    @extend_schema(operation_id="contents_get", responses={200: OpenApiTypes.BINARY})
    def get(self, request: Any, shelf: str, identity: str) -> HttpResponseBase:
        """Download a content by its id; ranges are supported."""
        _, found = self.shelf(request, shelf)
        return send_content(request, identity, contents.get_size(found, identity), identity[:12])


class CopiesView(ShelfView):
    """Copying artifacts from another shelf."""

    @extend_schema(operation_id="artifacts_copy", request=shapes.CopyIn, responses={201: shapes.CopyOut})
    def post(self, request: Any, shelf: str) -> Response:
        """Copy an artifact from another shelf with the versions it comes from; authors and times are kept."""
        caller, found = self.shelf(request, shelf)
        values = valid(shapes.CopyIn, request)

        told, _ = copying.copy_artifact(caller, found, **values)
        return Response(told, status=201)

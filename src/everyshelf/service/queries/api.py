"""Queries over HTTP."""

from __future__ import annotations

from typing import Any

from django.urls import path
from drf_spectacular.types import OpenApiTypes
from drf_spectacular.utils import OpenApiParameter, extend_schema
from rest_framework.response import Response

from everyshelf.core.answers.queries import QueryAnswer
from everyshelf.core.errors import InvalidError
from everyshelf.core.querying.statement import MOST_ROWS, MOST_SHOWN
from everyshelf.service.http.answers import answered
from everyshelf.service.http.transfer import send_file
from everyshelf.service.http.views import number
from everyshelf.service.queries import actions
from everyshelf.service.shelves.api.base import REF, ShelfView

_TYPES = {"arrow": "application/vnd.apache.arrow.stream", "parquet": "application/vnd.apache.parquet"}
_SQL = OpenApiParameter(
    "sql",
    str,
    required=True,
    description="One SELECT; artifacts in quotes, `'PATH[#TABLE][@REF]'`; lists: commits, artifacts, versions, "
    "findings, runs.",
)


class QueryView(ShelfView):
    """SQL over versions."""

    @extend_schema(
        operation_id="query",
        responses=answered(QueryAnswer),
        parameters=[_SQL, REF, OpenApiParameter("limit", int, description="Rows at most; 100 if left out.")],
    )
    def get(self, request: Any, shelf: str) -> Response:
        """Run a query over any versions of tables, and return its first rows. A large table is read by a job first
        (`rows.reading`)."""
        caller, found = self.shelf(request, shelf)
        most = min(number(request, "limit", 100), MOST_SHOWN)
        return Response(actions.run(caller, found, _sql(request), request.query_params.get("ref") or "", most))


class QueryFileView(ShelfView):
    """All rows of a query."""

    @extend_schema(
        operation_id="query_file",
        responses={200: OpenApiTypes.BINARY},
        parameters=[
            _SQL,
            REF,
            OpenApiParameter("form", str, description="arrow (an Arrow stream) or parquet; arrow if left out."),
            OpenApiParameter("limit", int, description="Rows at most; all if left out, up to 5,000,000."),
        ],
    )
    def get(self, request: Any, shelf: str) -> Any:
        """Download the rows of a query as an Arrow stream or a Parquet file."""
        caller, found = self.shelf(request, shelf)
        form = request.query_params.get("form") or "arrow"
        if form not in _TYPES:
            raise InvalidError(f"{form[:20]!r} is not a form of rows", code="query.form", hint="Known: arrow, parquet.")
        given = request.query_params.get("limit")
        most = min(number(request, "limit", 1), MOST_ROWS) if given else None
        file = actions.write(caller, found, _sql(request), request.query_params.get("ref") or "", form, most)
        return send_file(file, f"query.{form}", _TYPES[form])


def _sql(request: Any) -> str:
    sql = request.query_params.get("sql", "")
    if not sql.strip():
        raise InvalidError("name the query", code="query.statement", hint="Give it as the parameter sql.")
    return str(sql)


urlpatterns = [path("", QueryView.as_view()), path("/file", QueryFileView.as_view())]

"""Reports going out: in which form they are asked for, and as which file they are sent."""

from __future__ import annotations

from typing import Any

from django.http import HttpResponse
from drf_spectacular.utils import OpenApiParameter

from everyshelf.core.errors import InvalidError
from everyshelf.core.report.document import FORMS, Form
from everyshelf.service.http.transfer import as_download

FORM = OpenApiParameter("form", str, enum=list(FORMS), description="html if left out.")
_TYPES = {"html": "text/html; charset=utf-8", "md": "text/markdown; charset=utf-8", "json": "application/json"}


def form_wanted(request: Any) -> Form:
    """The form a request asks for; raises ``InvalidError`` for any other."""
    wanted = request.query_params.get("form") or "html"
    for form in FORMS:
        if wanted == form:
            return form
    raise InvalidError(f"form must be one of {', '.join(FORMS)}, not {wanted[:40]!r}", code="report.form")


def as_report(text: str, title: str, form: Form) -> HttpResponse:
    """A report as a file to keep."""
    return as_download(text, f"{title}.{form}", _TYPES[form])

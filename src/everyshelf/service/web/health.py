"""``/healthz``: whether this installation can do its work."""

from __future__ import annotations

from django.db import connection
from django.http import HttpRequest, JsonResponse

import everyshelf
from everyshelf.service.config import get_config


def healthz(request: HttpRequest) -> JsonResponse:
    """200 with ``{"status": "ok"}``, or 503 with what is wrong."""
    wrong = []
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
    except Exception as error:
        wrong.append(f"records: {error}")
    if not get_config().segments.is_dir():
        wrong.append("segments: the folder is missing")
    status = {"status": "ok" if not wrong else "failing", "version": everyshelf.__version__, "problems": wrong}
    return JsonResponse(status, status=503 if wrong else 200)

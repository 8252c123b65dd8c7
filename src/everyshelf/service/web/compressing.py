"""Answers to the console are sent compressed; programs, which are mostly near, get them as they are."""

from __future__ import annotations

from typing import Any

from django.conf import settings
from django.http import HttpRequest, HttpResponseBase
from django.middleware.gzip import GZipMiddleware

_LEAST = 2000


class CompressedAnswers(GZipMiddleware):
    """Compresses JSON answers to a signed-in browser. What they hold is not mixed with what others may choose, and
    each has some bytes of chance in it (Django, "Heal the Breach")."""

    def process_response(self, request: HttpRequest, response: HttpResponseBase) -> Any:
        """Compress what is JSON, whole, and large enough to be worth it."""
        is_console = settings.SESSION_COOKIE_NAME in request.COOKIES and "Authorization" not in request.headers
        is_json = response.get("Content-Type", "").startswith("application/json")
        if not is_console or not is_json or response.streaming or len(getattr(response, "content", b"")) < _LEAST:
            return response
        return super().process_response(request, response)

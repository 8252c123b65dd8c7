"""Request numbers, structured access log, and strict headers."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable

import structlog
from django.http import HttpRequest, HttpResponse

from everyshelf.service.base.context import get_store

log = structlog.get_logger("everyshelf.access")
_Answer = Callable[[HttpRequest], HttpResponse]

# The styling library writes style elements at run time, so inline styles are allowed; inline scripts never are.
_POLICY = (
    "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data: blob:; font-src 'self' data:; "
    "connect-src 'self'; worker-src 'self' blob:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
)


class RequestContext:
    """Gives each request a number and logs it once it is answered."""

    def __init__(self, answer: _Answer) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        request.request_id = uuid.uuid4().hex[:12]  # type: ignore[attr-defined]
        start = time.monotonic()
        with get_store().segments.users.one():  # what it relies on stays until its records name it
            response = self._answer(request)
        response["X-Request-Id"] = request.request_id  # type: ignore[attr-defined]
        if request.path.startswith("/api/"):
            took = round((time.monotonic() - start) * 1000, 1)
            get_store().segments.seal_if_asked()
            log.info("answered", method=request.method, path=request.path, status=response.status_code, ms=took)
        return response


class SecurityHeaders:
    """The content policy, and no caching of answers of the interface."""

    def __init__(self, answer: _Answer) -> None:
        self._answer = answer

    def __call__(self, request: HttpRequest) -> HttpResponse:
        response = self._answer(request)
        response.setdefault("Content-Security-Policy", _POLICY)
        if request.path.startswith("/api/"):
            response.setdefault("Cache-Control", "private, no-cache")
        return response

"""Request numbers, structured access log, and strict headers."""

from __future__ import annotations

import re
import time
import uuid
from collections.abc import Callable

import structlog
from django.db import DatabaseError
from django.http import HttpRequest, HttpResponse

from everyshelf.core.content.stores import MAIN, in_store
from everyshelf.service.base.context import get_store
from everyshelf.service.shelves.actions.shelves import store_of_shelf

log = structlog.get_logger("everyshelf.access")
# The shelf of an address of the interface, of the network folder, or of a repository.
_OF_SHELF = re.compile(r"/(?:api/v1/shelves|dav|git)/([a-z0-9-]+)(?:\.git)?(?:/|\Z)")
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
        # What it relies on stays until its records name it; what it writes goes where its shelf lives.
        with get_store().segments.users.one(), in_store(_store_for(request.path)):
            response = self._answer(request)
        response["X-Request-Id"] = request.request_id  # type: ignore[attr-defined]
        if request.path.startswith("/api/"):
            took = round((time.monotonic() - start) * 1000, 1)
            get_store().segments.seal_if_asked()
            log.info("answered", method=request.method, path=request.path, status=response.status_code, ms=took)
        return response


def _store_for(path: str) -> str:
    shelf = _OF_SHELF.match(path)
    if shelf is None:
        return MAIN
    try:
        return store_of_shelf(shelf[1])
    except DatabaseError:  # told by whoever answers
        return MAIN


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

"""Every failure as RFC 9457 ``application/problem+json``: one handler, one table from error class to status."""

from __future__ import annotations

import traceback
from typing import Any

import structlog
from django.core.exceptions import DisallowedHost, PermissionDenied, RequestDataTooBig
from django.db import DatabaseError, DataError, OperationalError
from django.http import Http404, HttpRequest, JsonResponse
from rest_framework import exceptions
from rest_framework.response import Response

from everyshelf.core.errors import (
    BrokenError,
    BusyError,
    ConflictError,
    EveryShelfError,
    InvalidError,
    LimitError,
    MissingError,
    OutOfReachError,
    RefusedError,
    StorageError,
    UnreadableError,
)
from everyshelf.service.base.room import is_no_room, is_read_only, let_reserve_go, no_room, read_only

log = structlog.get_logger("everyshelf.problems")

_STATUS: tuple[tuple[type[EveryShelfError], int], ...] = (
    (InvalidError, 400),
    (RefusedError, 403),
    (MissingError, 404),
    (ConflictError, 409),
    (UnreadableError, 422),
    (LimitError, 422),
    (OutOfReachError, 502),
    (StorageError, 507),
    (BusyError, 503),
    (BrokenError, 500),
    (EveryShelfError, 500),
)
_TITLES = {
    400: "Not valid",
    401: "Sign in first",
    403: "Refused",
    404: "Not found",
    405: "Not offered here",
    408: "Too slow",
    409: "Conflict",
    413: "Too large",
    415: "Not a form this takes",
    422: "Cannot be read",
    429: "Too many tries",
    500: "Our fault",
    503: "Busy",
    507: "No room",
}


def status_of(error: EveryShelfError) -> int:
    """The HTTP status of one of our errors."""
    return next(status for kind, status in _STATUS if isinstance(error, kind))


def body(status: int, detail: str, code: str, hint: str = "", **more: Any) -> dict[str, Any]:
    """A problem document."""
    problem = {
        "type": f"urn:every-shelf:problem:{code}",
        "title": _TITLES.get(status, "Failed"),
        "status": status,
        "detail": detail,
        "code": code,
        "hint": hint,
        **more,
    }
    return {k: v for k, v in problem.items() if v is not None}


def handle(error: Exception, context: dict[str, Any]) -> Response:
    """DRF's exception handler: translates everything, so that nothing leaves as a bare error page."""
    request = context.get("request")
    status, problem = _translate(error)
    problem["instance"] = getattr(request, "path", None)
    problem["request"] = getattr(getattr(request, "_request", None), "request_id", None)
    if status >= 500:
        log.error("request failed", path=problem["instance"], request=problem["request"], trace=_trace(error))
    response = Response(problem, status=status, content_type="application/problem+json")
    if status == 401:
        response["WWW-Authenticate"] = 'Bearer realm="Every Shelf"'
    if wait := getattr(error, "wait", None):
        response["Retry-After"] = str(round(wait))
    return response


def problem_of(error: Exception) -> dict[str, Any]:
    """The problem document of any error."""
    return _translate(error)[1]


def _translate(error: Exception) -> tuple[int, dict[str, Any]]:
    if isinstance(error, EveryShelfError):
        status = status_of(error)
        return status, body(status, error.message, error.code, error.hint, **_facts(error))
    if isinstance(error, exceptions.ValidationError):
        return 400, body(
            400, "Some fields are not valid.", "input.invalid", "See errors.", errors=_fields(error.detail)
        )
    if isinstance(error, exceptions.APIException):
        return _framework(error)
    if isinstance(error, Http404):
        return 404, body(404, "There is nothing at this address.", "input.missing")
    if isinstance(error, PermissionDenied):
        return 403, body(403, str(error) or "This is not allowed.", "rights.refused")
    if isinstance(error, RequestDataTooBig):
        return 413, body(413, "The request is too large.", "input.too_large", "Send contents through PUT …/contents.")
    if isinstance(error, DataError | OverflowError | UnicodeEncodeError) or _is_unfit_value(error):
        return 400, body(400, "A value of this request cannot be recorded.", "input.invalid", "Look at its fields.")
    if is_no_room(error):
        let_reserve_go()
        return _translate(no_room())
    if is_read_only(error):
        return _translate(read_only())
    if isinstance(error, OperationalError) and "locked" in str(error):
        return 503, body(503, "The records are busy.", "records.busy", "Try again in a moment; nothing was changed.")
    if isinstance(error, DatabaseError):
        hint = "Tell an administrator; everyshelf verify names what is damaged."
        return 500, body(500, "The records cannot be read or written.", "records.failed", hint)
    return 500, body(
        500,
        "Something went wrong here; nothing of yours was changed.",
        "service.failed",
        "Tell an administrator the request number.",
    )


def _is_unfit_value(error: Exception) -> bool:
    """A surrogate or a NUL character, which the database does not accept as text."""
    return isinstance(error, ValueError) and any(w in str(error) for w in ("embedded null", "surrogates not allowed"))


def _facts(error: EveryShelfError) -> dict[str, Any]:
    return {k: v for k, v in error.facts.items() if k != "pointer" and isinstance(v, str | int | list | dict | None)}


def _framework(error: exceptions.APIException) -> tuple[int, dict[str, Any]]:
    status = error.status_code
    codes = {
        exceptions.NotAuthenticated: ("session.missing", "Sign in, or send a token: everyshelf connect."),
        exceptions.AuthenticationFailed: ("session.wrong", "Look at the name and password, or make a new token."),
        exceptions.ParseError: ("input.syntax", "Send valid JSON."),
        exceptions.MethodNotAllowed: ("input.method", "See /api/v1/openapi for what is offered."),
        exceptions.UnsupportedMediaType: ("input.media_type", "Send application/json."),
        exceptions.Throttled: ("session.throttled", "Wait a minute, then try again."),
        exceptions.PermissionDenied: ("rights.refused", "Ask an owner of the shelf."),
    }
    code, hint = codes.get(type(error), ("input.refused", ""))
    status = 401 if isinstance(error, exceptions.AuthenticationFailed) else status
    return status, body(status, str(error.detail), code, hint)


def _fields(detail: Any, pointer: str = "") -> list[dict[str, str]]:
    if isinstance(detail, dict):
        return [e for name, inner in detail.items() for e in _fields(inner, f"{pointer}/{name}")]
    if isinstance(detail, list):
        nested = [
            e
            for k, inner in enumerate(detail)
            if isinstance(inner, dict | list)
            for e in _fields(inner, f"{pointer}/{k}")
        ]
        return nested + [{"pointer": pointer, "detail": str(d)} for d in detail if not isinstance(d, dict | list)]
    return [{"pointer": pointer, "detail": str(detail)}]


def _trace(error: Exception) -> str:
    return "".join(traceback.format_exception(error))[-4000:]


def plain_problem(request: HttpRequest, status: int, detail: str, code: str, hint: str = "") -> JsonResponse:
    """A problem for what never reaches a view of the API."""
    problem = body(status, detail, code, hint, instance=request.path, request=getattr(request, "request_id", None))
    return JsonResponse(problem, status=status, content_type="application/problem+json")


def not_found(request: HttpRequest, exception: Exception | None = None) -> JsonResponse:
    """Django's handler404."""
    return plain_problem(
        request,
        404,
        "There is nothing at this address.",
        "input.missing",
        "The console starts at /, the interface at /api/v1/.",
    )


def bad_request(request: HttpRequest, exception: Exception | None = None) -> JsonResponse:
    """Django's handler400."""
    if isinstance(exception, DisallowedHost):
        named = request.META.get("HTTP_HOST", "")[:100]
        return plain_problem(
            request,
            400,
            f"The service does not answer to the name {named!r}.",
            "input.host",
            "Use the address that you were given, or add the name to EVERYSHELF_HOSTS.",
        )
    return plain_problem(
        request,
        400,
        "The request cannot be understood.",
        "input.invalid",
        "Look at the host name and the length of the request.",
    )


def failed(request: HttpRequest) -> JsonResponse:
    """Django's handler500."""
    log.error("request failed outside the interface", path=request.path, trace=traceback.format_exc()[-4000:])
    return plain_problem(
        request,
        500,
        "Something went wrong here; nothing of yours was changed.",
        "service.failed",
        "Tell an administrator the request number.",
    )


def csrf_failure(request: HttpRequest, reason: str = "") -> JsonResponse:
    """A form that did not come from our own page."""
    return plain_problem(
        request,
        403,
        "The request did not come from this console's own page.",
        "session.csrf",
        "Load the page again and repeat.",
    )

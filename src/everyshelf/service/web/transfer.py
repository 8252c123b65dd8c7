"""Streaming bodies in, and contents out with ranges (RFC 9110, section 14)."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import IO, Any
from urllib.parse import quote

from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse

from everyshelf.core.errors import InvalidError
from everyshelf.service.context import get_store
from everyshelf.service.web.problems import plain_problem

_PIECE_BYTES = 1024 * 1024
_STALLED_SECONDS = 60
_RANGE = re.compile(r"bytes=(\d*)-(\d*)\Z")


def body_pieces(request: HttpRequest) -> tuple[Iterator[bytes], int | None]:
    """The raw body in pieces, and its announced length (None for a chunked one)."""
    socket = request.META.get("gunicorn.socket")
    if socket is not None:
        socket.settimeout(_STALLED_SECONDS)  # as many stalled uploads as threads would hang the service
    if "chunked" in request.headers.get("Transfer-Encoding", "").lower():
        return _until_end(request.META["wsgi.input"]), None
    try:
        length = int(request.META.get("CONTENT_LENGTH") or 0)
    except ValueError as error:
        raise InvalidError("Content-Length is no number", code="input.length") from error
    return _until_length(request.META["wsgi.input"], length), length


def _until_end(stream: Any) -> Iterator[bytes]:
    while piece := _read(stream, _PIECE_BYTES):
        yield piece


def _until_length(stream: Any, length: int) -> Iterator[bytes]:
    while length > 0 and (piece := _read(stream, min(_PIECE_BYTES, length))):
        length -= len(piece)
        yield piece


def _read(stream: Any, size: int) -> bytes:
    try:
        piece: bytes = stream.read(size)
    except TimeoutError as error:
        raise InvalidError(
            f"nothing came for {_STALLED_SECONDS} seconds",
            code="content.stalled",
            hint="Send it again; nothing was kept of it.",
        ) from error
    except OSError as error:
        raise InvalidError("the upload broke off", code="content.incomplete", hint="Send it again.") from error
    return piece


def send_content(request: HttpRequest, identity: str, size: int, name: str) -> HttpResponseBase:
    """The content, or the one range of it that was asked for; its id is the strong ETag."""
    tag = f'"{identity}"'
    if request.headers.get("If-None-Match") == tag:
        return _headed(HttpResponse(status=304), tag, name)
    asked = request.headers.get("Range", "")
    condition = request.headers.get("If-Range")
    if not asked or (condition is not None and condition != tag):
        response: HttpResponseBase = StreamingHttpResponse(get_store().iter_range(identity))
        response["Content-Length"] = str(size)
        return _headed(response, tag, name)
    bounds = _bounds(asked, size)
    if bounds is None:
        refused = plain_problem(request, 416, f"the range {asked} is not in {size} bytes", "content.range")
        refused["Content-Range"] = f"bytes */{size}"
        return refused
    start, stop = bounds
    response = StreamingHttpResponse(get_store().iter_range(identity, start, stop), status=206)
    response["Content-Range"] = f"bytes {start}-{stop - 1}/{size}"
    response["Content-Length"] = str(stop - start)
    return _headed(response, tag, name)


def _bounds(asked: str, size: int) -> tuple[int, int] | None:
    found = _RANGE.match(asked.strip())
    if found is None or found.groups() == ("", ""):
        return None
    first, last = found.groups()
    if not first:
        start, stop = max(0, size - int(last)), size
    else:
        start, stop = int(first), min(size, int(last) + 1 if last else size)
    return (start, stop) if start < stop else None


def _headed(response: HttpResponseBase, tag: str, name: str) -> HttpResponseBase:
    response["ETag"] = tag
    response["Accept-Ranges"] = "bytes"
    # Never shown as a page of ours: an artifact may hold any script.
    response["Content-Type"] = "application/octet-stream"
    response["Content-Security-Policy"] = "sandbox; default-src 'none'"
    response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name, safe='')}"
    return response


def send_file(file: IO[bytes], name: str, content_type: str) -> HttpResponseBase:
    """An open file, from its beginning, as one to keep; it is closed when it is sent."""
    response = FileResponse(file, content_type=content_type)
    response["Content-Security-Policy"] = "sandbox; default-src 'none'"
    response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name, safe='')}"
    return response


REPORT_TYPES = {
    "html": "text/html; charset=utf-8",
    "md": "text/markdown; charset=utf-8",
    "json": "application/json",
}


def as_download(data: bytes | str, name: str, content_type: str) -> HttpResponse:
    """What was made from artifacts, as a file to keep; never shown as a page of ours."""
    response = HttpResponse(data, content_type=content_type)
    response["Content-Security-Policy"] = "sandbox; default-src 'none'"
    response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name, safe='')}"
    return response

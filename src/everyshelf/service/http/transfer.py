"""Streaming bodies in, and contents out with ranges (RFC 9110, section 14)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator
from typing import IO, Any, TypeVar
from urllib.parse import quote

from django.http import FileResponse, HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse

from everyshelf.core.content.content_file import ContentFile
from everyshelf.service.base.context import get_store
from everyshelf.service.base.turns import turns
from everyshelf.service.problems import plain_problem

_PIECE_BYTES = 1024 * 1024
_Response = TypeVar("_Response", bound=HttpResponseBase)
_RANGE = re.compile(r"bytes=(\d*)-(\d*)\Z", re.ASCII)


def body_pieces(request: HttpRequest) -> tuple[Iterator[bytes], int]:
    """The raw body in pieces, and its length. The server hands over whole bodies only, chunked ones too."""
    length = int(request.META.get("CONTENT_LENGTH") or 0)
    return _until_length(request.META["wsgi.input"], length), length


def has_left(request: HttpRequest) -> Callable[[], bool]:
    """Asks whether the client has gone; the server knows."""
    asked: Callable[[], bool] = request.META.get("waitress.client_disconnected", lambda: False)
    return asked


def _until_length(stream: Any, length: int) -> Iterator[bytes]:
    turns.let_go()  # bytes are hashed, packed and written outside the interpreter's lock, and may take long
    while length > 0 and (piece := stream.read(min(_PIECE_BYTES, length))):
        length -= len(piece)
        yield piece


def send_content(request: HttpRequest, identity: str, size: int, name: str) -> HttpResponseBase:
    """The content, or the one range of it that was asked for; its id is the strong ETag."""
    tag = f'"{identity}"'
    if request.headers.get("If-None-Match") == tag:
        return _headed(HttpResponse(status=304), tag, name)
    asked = request.headers.get("Range", "")
    condition = request.headers.get("If-Range")
    if not asked or (condition is not None and condition != tag):
        response: HttpResponseBase = _streamed(identity, 0, size)
        response["Content-Length"] = str(size)
        return _headed(response, tag, name)
    bounds = _bounds(asked, size)
    if bounds is None:
        refused = plain_problem(request, 416, f"the range {asked} is not in {size} bytes", "content.range")
        refused["Content-Range"] = f"bytes */{size}"
        return refused
    start, stop = bounds
    response = _streamed(identity, start, stop)
    response.status_code = 206
    response["Content-Range"] = f"bytes {start}-{stop - 1}/{size}"
    response["Content-Length"] = str(stop - start)
    return _headed(response, tag, name)


def _streamed(identity: str, start: int, stop: int) -> HttpResponseBase:
    """Content as a file, which the server reads as fast as it is taken: whoever takes it slowly holds no thread."""
    return FileResponse(ContentFile(get_store(), identity, start, stop))


def _bounds(asked: str, size: int) -> tuple[int, int] | None:
    found = _RANGE.match(asked.strip())
    if found is None or found.groups() == ("", "") or len(asked) > 60:
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
    response["Content-Type"] = "application/octet-stream"
    return _to_keep(response, name)


def _to_keep(response: _Response, name: str) -> _Response:
    """Let a browser save it under this name and never show it as a page of ours: an artifact may hold any script."""
    response["Content-Security-Policy"] = "sandbox; default-src 'none'"
    response["Content-Disposition"] = f"attachment; filename*=UTF-8''{quote(name, safe='')}"
    return response


def send_file(file: IO[bytes], name: str, content_type: str) -> HttpResponseBase:
    """An open file, from its beginning, as one to keep; it is closed when it is sent."""
    return _to_keep(FileResponse(file, content_type=content_type), name)


def send_pieces(pieces: Iterable[bytes], name: str) -> HttpResponseBase:
    """What is made while it is sent, as a zip to keep; the pieces are closed at the end, however it comes."""
    turns.let_go()
    return _to_keep(StreamingHttpResponse(pieces, content_type="application/zip"), name)


def as_download(data: bytes | str, name: str, content_type: str) -> HttpResponse:
    """What was made from artifacts, as a file to keep; never shown as a page of ours."""
    return _to_keep(HttpResponse(data, content_type=content_type), name)

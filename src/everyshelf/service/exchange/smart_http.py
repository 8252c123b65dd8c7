"""``/git/SHELF.git``: Git's smart HTTP protocol (``gitprotocol-http``), spoken by the ``git`` program itself where a
client reads and by ``actions.receiving`` where it writes."""

from __future__ import annotations

import subprocess
import tempfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from typing import IO, Any

from django.http import HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.utils.decorators import method_decorator
from django.views import View
from django.views.decorators.csrf import csrf_exempt

from everyshelf.core.errors import EveryShelfError, RefusedError
from everyshelf.gitside.program import start_git
from everyshelf.gitside.protocol import packet
from everyshelf.gitside.repository import NO_OBJECT, Repository
from everyshelf.service.base.turns import turns
from everyshelf.service.exchange.actions.receiving import receive_push
from everyshelf.service.exchange.actions.repositories import folder_of, locked, locked_for_reading
from everyshelf.service.exchange.actions.showing import bring_up_to_date
from everyshelf.service.http.transfer import has_left
from everyshelf.service.people.basic import NotSignedInError, caller_by_token
from everyshelf.service.problems import status_of
from everyshelf.service.rights import Caller, require_scope
from everyshelf.service.shelves.actions.shelves import get_shelf
from everyshelf.service.shelves.models import Shelf

_SERVICES = ("git-upload-pack", "git-receive-pack")
_GZIP = ("gzip", "x-gzip")
_PIECE = 256 * 1024
_MOST_QUESTION = 256 * 1024 * 1024  # bytes of what a client says it wants and has
# Offered to whoever pushes: what ``receiving`` does.
_PUSH_CAPABILITIES = "report-status delete-refs side-band-64k quiet atomic ofs-delta object-format=sha1"


class GitView(View):
    """What the addresses of one shelf's repository have in common."""

    @method_decorator(csrf_exempt)
    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
        """Answer; errors are lines of text, which Git shows to whoever runs it."""
        try:
            return super().dispatch(request, *args, **kwargs)
        except NotSignedInError as error:
            answer = _text(401, str(error))
            answer["WWW-Authenticate"] = 'Basic realm="Every Shelf, your name and a token", charset="UTF-8"'
            return answer
        except EveryShelfError as error:
            return _text(status_of(error), f"{error.message}. {error.hint}")

    @staticmethod
    def shelf(request: HttpRequest, key: str, service: str) -> tuple[Caller, Shelf]:
        """Who asks, and the shelf if they may read it (for a push: if their token may write)."""
        caller = caller_by_token(request)
        shelf = get_shelf(caller, key)
        if service == "git-receive-pack":
            require_scope(caller, "write")
        return caller, shelf


class Refs(GitView):
    """``info/refs``: what a client may ask for."""

    def get(self, request: HttpRequest, shelf: str) -> HttpResponseBase:
        """The branches and tags, or what the protocol's second version says first."""
        service = request.GET.get("service", "")
        if service not in _SERVICES:
            raise RefusedError("this is a repository of Git's smart protocol only", hint="Use Git 1.6.6 or newer.")
        _, found = self.shelf(request, shelf, service)
        with locked_for_reading(found) as is_mine:
            if is_mine:
                bring_up_to_date(found)
            if service == "git-receive-pack":
                data = _for_push(found)
            else:
                data = _for_fetch(found, request)
        return _answer(HttpResponse(data), f"application/x-{service}-advertisement")


class UploadPack(GitView):
    """``git-upload-pack``: clone and fetch."""

    def post(self, request: HttpRequest, shelf: str) -> HttpResponseBase:
        """The objects the client lacks."""
        _, found = self.shelf(request, shelf, "git-upload-pack")
        if not (folder_of(found) / "HEAD").exists():  # thrown away since the client asked for the branches
            with locked(found):
                bring_up_to_date(found)
        with _body(request) as body:
            process = start_git(
                None,
                ["upload-pack", "--stateless-rpc", str(folder_of(found))],
                environment=_reading(request),
                stdin=body,
                stdout=subprocess.PIPE,
                stderr=subprocess.DEVNULL,
            )
        turns.let_go()
        return _answer(StreamingHttpResponse(_pieces(process)), "application/x-git-upload-pack-result")


class ReceivePack(GitView):
    """``git-receive-pack``: push."""

    def post(self, request: HttpRequest, shelf: str) -> HttpResponseBase:
        """Take what is pushed, or say why not."""
        caller, found = self.shelf(request, shelf, "git-receive-pack")
        turns.let_go()
        with _body(request) as body:
            data = receive_push(caller, found, body, has_left(request))
        return _answer(HttpResponse(data), "application/x-git-receive-pack-result")


def _reading(request: HttpRequest) -> dict[str, str]:
    """What the program is told: which version of the protocol the client speaks."""
    said = request.headers.get("Git-Protocol", "")
    return {"GIT_PROTOCOL": said} if said and all(c.isalnum() or c in "=:-._" for c in said) else {}


def _for_fetch(shelf: Shelf, request: HttpRequest) -> bytes:
    process = start_git(
        None,
        ["upload-pack", "--stateless-rpc", "--http-backend-info-refs", str(folder_of(shelf))],
        environment=_reading(request),
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    data = process.communicate()[0]
    if "version=2" in request.headers.get("Git-Protocol", ""):
        return data
    return packet(b"# service=git-upload-pack\n") + b"0000" + data


def _for_push(shelf: Shelf) -> bytes:
    with Repository(folder_of(shelf)) as repository:
        refs = sorted(repository.refs("refs/heads/", "refs/tags/").items())
    rows = refs or [("capabilities^{}", NO_OBJECT)]
    lines = []
    for place, (name, identity) in enumerate(rows):
        said = f"\0{_PUSH_CAPABILITIES}" if place == 0 else ""
        lines.append(packet(f"{identity} {name}{said}\n".encode("utf-8", "surrogateescape")))
    return packet(b"# service=git-receive-pack\n") + b"0000" + b"".join(lines) + b"0000"


@contextmanager
def _body(request: HttpRequest) -> Iterator[IO[bytes]]:
    """The body of a request as a file, unpacked where it was packed."""
    left = int(request.META.get("CONTENT_LENGTH") or 0)
    unpacker = zlib.decompressobj(wbits=31) if request.headers.get("Content-Encoding") in _GZIP else None
    with tempfile.TemporaryFile() as file:
        try:
            while left > 0 and (piece := request.META["wsgi.input"].read(min(_PIECE, left))):
                left -= len(piece)
                file.write(unpacker.decompress(piece, _MOST_QUESTION) if unpacker is not None else piece)
                if unpacker is not None and file.tell() > _MOST_QUESTION:
                    raise RefusedError("what the client sent unpacks to too much", code="git.size")
        except zlib.error as error:
            raise RefusedError("what the client sent is damaged", code="git.protocol", hint="Try again.") from error
        file.seek(0)
        yield file


def _pieces(process: subprocess.Popen[bytes]) -> Iterator[bytes]:
    assert process.stdout is not None
    try:
        while piece := process.stdout.read(_PIECE):
            yield piece
    finally:  # also when whoever asked has gone
        process.stdout.close()
        process.kill()
        process.wait()


def _answer(response: HttpResponseBase, kind: str) -> HttpResponseBase:
    response["Content-Type"] = kind
    response["Cache-Control"] = "no-cache"
    return response


def _text(status: int, said: str) -> HttpResponse:
    return HttpResponse(f"{said.strip()}\n", status=status, content_type="text/plain; charset=utf-8")

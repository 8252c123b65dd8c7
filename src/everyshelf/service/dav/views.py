"""``/dav/…``: sign-in, and the way to the protocol."""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from typing import Any

from django.http import HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.utils.decorators import method_decorator
from django.views import View
from django.views.decorators.csrf import csrf_exempt

from everyshelf.service.base.acts import one_act
from everyshelf.service.base.turns import turns
from everyshelf.service.dav.asked import AskedError, check_asked
from everyshelf.service.dav.folders import CALLER
from everyshelf.service.dav.protocol import MOUNT, dav_app
from everyshelf.service.people.basic import NotSignedInError, caller_by_token

_LOCKING = ("LOCK", "UNLOCK")
_FAILED, _OUR_FAULT = 400, 500
_REASON = re.compile(r"<p>\d+ [^:<]*:?(.*?)</p>", re.DOTALL)
_SENTENCES = {
    400: "The request cannot be understood",
    403: "You may not do that here",
    404: "There is nothing there",
    405: "That cannot be done here",
    409: "The folder above it is not there",
    412: "It is not as the request says it has to be",
    415: "A body of that form cannot be taken",
}
_REALM = 'Basic realm="Every Shelf, your name and a token", charset="UTF-8"'
# Of the connection, not of the answer (RFC 9110, 7.6.1): the server sets them.
_OF_CONNECTION = ("connection", "transfer-encoding", "date")


class DavView(View):
    """The network folder."""

    @method_decorator(csrf_exempt)
    def dispatch(self, request: HttpRequest, *args: Any, **kwargs: Any) -> HttpResponseBase:
        """Answer whatever the method is."""
        try:
            caller = caller_by_token(request)
        except NotSignedInError as error:
            denied = HttpResponse(str(error), status=401, content_type="text/plain; charset=utf-8")
            denied["WWW-Authenticate"] = _REALM
            return denied
        environ = {**request.META, CALLER: caller}  # of a WSGI request they are the same
        inside = environ["PATH_INFO"][len(MOUNT) :]
        # As WSGI says (PEP 3333): bytes of the address, each as a character.
        environ.update(SCRIPT_NAME=MOUNT, PATH_INFO=(inside or "/").encode().decode("latin-1"))
        environ["wsgidav.auth.user_name"] = caller.person.username
        environ.pop("HTTP_AUTHORIZATION", None)
        if request.method == "PROPFIND":
            environ.setdefault("HTTP_DEPTH", "1")  # who does not say means one level, whatever RFC 4918 takes it for
        turns.let_go()
        try:
            check_asked(environ)
            if request.method in _LOCKING:
                with one_act():  # whether it is locked is looked up and noted in one
                    answer: HttpResponseBase = _answer(environ)
                    if answer.status_code >= _FAILED:
                        raise _TakenBackError(answer)
                    return answer
            return _answer(environ)
        except AskedError as error:
            return _said(error.status, str(error))
        except _TakenBackError as error:
            return error.answer


class _TakenBackError(Exception):
    """A lock that was refused, so that nothing of it stays."""

    def __init__(self, answer: HttpResponseBase) -> None:
        super().__init__()
        self.answer = answer


def _said(status: int, message: str) -> HttpResponse:
    return HttpResponse(f"{message}\n", status=status, content_type="text/plain; charset=utf-8")


def _in_our_words(status: int, page: bytes, path: str) -> HttpResponse:
    """What the library says of an error on a page of its own, as one sentence."""
    found = _REASON.search(page.decode("utf-8", "replace"))
    reason = html.unescape(re.sub(r"<[^>]*>", " ", found[1])).split("Source exception")[0] if found else ""
    reason = " ".join(reason.replace("\xa0", " ").split()).strip(" :.")
    if status >= _OUR_FAULT:
        reason = "Something went wrong here; nothing was changed. Tell the administrator"
    elif not reason or reason == path:
        reason = f"{_SENTENCES.get(status, 'That is not possible here')}: {path}"
    return _said(status, f"{reason}.")


def _answer(environ: dict[str, Any]) -> HttpResponseBase:
    told: dict[str, Any] = {}

    def start_response(status: str, headers: list[tuple[str, str]], exc_info: Any = None) -> Any:
        told.update(status=status, headers=headers)

    pieces = iter(dav_app()(environ, start_response))
    first = next(pieces, b"")  # the status is known then
    kind = next((value for name, value in told["headers"] if name.lower() == "content-type"), "")
    if int(told["status"].split()[0]) >= _FAILED and kind.startswith("text/html"):
        return _in_our_words(int(told["status"].split()[0]), b"".join(_all(first, pieces)), environ["PATH_INFO"])
    answer: HttpResponseBase
    if environ["REQUEST_METHOD"] == "GET":
        answer = StreamingHttpResponse(_all(first, pieces))
        answer["Content-Security-Policy"] = "sandbox"  # scripts of versioned pages must not run as ours
    else:
        answer = HttpResponse(b"".join(_all(first, pieces)))
    answer.status_code = int(told["status"].split()[0])
    if "Content-Type" in answer:
        del answer["Content-Type"]
    for name, value in told["headers"]:
        if name.lower() not in _OF_CONNECTION:
            answer[name] = value
    return answer


def _all(first: bytes, rest: Iterator[bytes]) -> Iterator[bytes]:
    yield first
    yield from rest

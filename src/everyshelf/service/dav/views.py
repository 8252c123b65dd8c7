"""``/dav/…``: sign-in, and the way to the protocol."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from django.http import HttpRequest, HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.utils.decorators import method_decorator
from django.views import View
from django.views.decorators.csrf import csrf_exempt

from everyshelf.service.base.acts import one_act
from everyshelf.service.base.turns import turns
from everyshelf.service.dav.folders import CALLER
from everyshelf.service.dav.protocol import MOUNT, dav_app
from everyshelf.service.people.basic import NotSignedInError, caller_by_token

_LOCKING = ("LOCK", "UNLOCK")
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
            answer = HttpResponse(str(error), status=401, content_type="text/plain; charset=utf-8")
            answer["WWW-Authenticate"] = _REALM
            return answer
        environ = {**request.META, CALLER: caller}  # of a WSGI request they are the same
        inside = environ["PATH_INFO"][len(MOUNT) :]
        # As WSGI says (PEP 3333): bytes of the address, each as a character.
        environ.update(SCRIPT_NAME=MOUNT, PATH_INFO=(inside or "/").encode().decode("latin-1"))
        environ["wsgidav.auth.user_name"] = caller.person.username
        environ.pop("HTTP_AUTHORIZATION", None)
        if request.method == "PROPFIND":
            environ.setdefault("HTTP_DEPTH", "1")  # who does not say means one level, whatever RFC 4918 takes it for
        turns.let_go()
        if request.method in _LOCKING:
            with one_act():  # whether it is locked is looked up and noted in one
                return _answer(environ)
        return _answer(environ)


def _answer(environ: dict[str, Any]) -> HttpResponseBase:
    told: dict[str, Any] = {}

    def start_response(status: str, headers: list[tuple[str, str]], exc_info: Any = None) -> Any:
        told.update(status=status, headers=headers)

    pieces = iter(dav_app()(environ, start_response))
    first = next(pieces, b"")  # the status is known then
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

"""The base of every view of the interface, and reading what a request says."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

from django.db import DatabaseError
from rest_framework import serializers
from rest_framework.response import Response
from rest_framework.views import APIView

from everyshelf.core.errors import InvalidError
from everyshelf.service.base.acts import Act, current_act, open_act
from everyshelf.service.base.fair import work_for
from everyshelf.service.idempotency.actions import KeyedWrite

_READING = ("GET", "HEAD", "OPTIONS")


class _AnsweredError(Exception):
    """The request was answered before; its answer is sent again."""

    def __init__(self, status: int, answer: Any) -> None:
        super().__init__("answered before")
        self.response = Response(answer, status=status)


class ApiView(APIView):
    """A view whose writing methods are one act each, done once for each idempotency key.

    ``takes_bytes``: the body is content that streams in; such a write is the same however often it is sent.
    ``looks``: it takes a body and changes nothing.
    ``keeps_answers``: False where the answer is nothing without what the server sets beside it (a session).
    """

    takes_bytes = False
    looks = False
    keeps_answers = True
    _keyed: KeyedWrite | None = None

    def dispatch(self, request: Any, *args: Any, **kwargs: Any) -> Any:
        """Answer; all that is written meanwhile is one transaction."""
        if request.method in _READING or self.takes_bytes:
            return super().dispatch(request, *args, **kwargs)
        with open_act(self._stop_if_answered) as act:
            response = super().dispatch(request, *args, **kwargs)
            try:
                self._end(act, response)
            except Exception as error:
                act.failed = True
                response = self.finalize_response(self.request, self.handle_exception(error), *args, **kwargs)
            return response

    def _end(self, act: Act, response: Any) -> None:
        if self._keyed is not None and not self.looks and not act.failed and 200 <= response.status_code < 300:
            act.begin()  # where nothing was written, the same request may have been answered meanwhile
            response.data = self._keyed.keep(response.status_code, response.data)
        act.end()

    def initial(self, request: Any, *args: Any, **kwargs: Any) -> None:
        """Sign-in and permissions, then whether this was answered before."""
        super().initial(request, *args, **kwargs)
        work_for(str(request.user.pk))
        key = request.headers.get("Idempotency-Key", "")[:100]
        if key and current_act() is not None and self.keeps_answers:
            owner = str(request.user.pk) if request.user.is_authenticated else ""
            body = request._request.body
            self._keyed = KeyedWrite(owner, key, request.method, request.get_full_path(), body)
            self._stop_if_answered()

    def _stop_if_answered(self) -> None:
        known = self._keyed.known_answer() if self._keyed is not None else None
        if known is not None:
            raise _AnsweredError(*known)

    def handle_exception(self, exc: Exception) -> Any:
        """Translate; what was written is taken back unless the error says that it shall stay."""
        act = current_act()
        if act is not None and not getattr(exc, "keeps", False):
            act.failed = True
        if isinstance(exc, _AnsweredError):
            return exc.response
        if act is not None and not act.begun and self._keyed is not None and not self.looks:
            try:  # the same request may be why this one cannot be done any more: beginning waits until that has ended
                act.begin()
            except DatabaseError:
                pass  # then nothing is known of another, and what happened here is told
            except Exception as answered:
                exc = answered
        if isinstance(exc, _AnsweredError):
            return exc.response
        return super().handle_exception(exc)


def valid(shape: type[serializers.Serializer[Any]], request: Any) -> dict[str, Any]:
    """The validated body. A shape that is ``strict`` takes no word it does not know: what is meant for it and
    misspelled would change nothing, and nobody would notice."""
    given = shape(data=request.data)
    words = set(request.data) if getattr(shape, "strict", False) and isinstance(request.data, dict) else set()
    if unknown := words - set(given.fields):
        word = sorted(unknown)[0]
        raise InvalidError(
            f"{word[:60]!r} is not known here; known are {', '.join(sorted(given.fields))}",
            code="input.unknown",
            pointer=f"/{word[:60]}",
        )
    given.is_valid(raise_exception=True)
    values: dict[str, Any] = given.validated_data
    return values


def number(request: Any, name: str, default: int) -> int:
    """A whole query parameter of at least 1."""
    return _whole(request, name, default, lambda value: 0 < value < 2**31, "a whole number from 1")


def number_of(request: Any, name: str, default: int) -> int:
    """A whole query parameter, not negative."""
    return _whole(request, name, default, lambda value: value < 10**12, "a whole number")


def flag(request: Any, name: str) -> bool:
    """A query parameter that is on or off; off if left out."""
    return request.query_params.get(name, "").lower() in ("1", "true")


def one_of(request: Any, name: str, words: Sequence[str], default: str, what: str) -> str:
    """A query parameter that is one of these words."""
    word: str = request.query_params.get(name) or default
    if word not in words:
        raise InvalidError(f"{word[:40]!r} is not {what}", code="input.invalid", hint=f"Say {', '.join(words)}.")
    return word


def _whole(request: Any, name: str, default: int, fits: Callable[[int], bool], what: str) -> int:
    text: str = request.query_params.get(name, "")
    if not text:
        return default
    # Python refuses to read a number of thousands of digits, with an error that says nothing to the caller.
    if not text.isascii() or not text.isdigit() or len(text) > 18 or not fits(int(text)):
        raise InvalidError(f"{name} must be {what}, not {text[:40]!r}", code="input.number")
    return int(text)


def path_of(request: Any) -> str:
    """The path an address asks for."""
    path: str = request.query_params.get("path", "")
    if not path:
        raise InvalidError("the address lacks path=…", code="input.missing_path", hint="Name the artifact.")
    return path

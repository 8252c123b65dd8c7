"""Sign-in, people, tokens."""

from __future__ import annotations

import threading
import time
from typing import Any

from django.contrib.auth import authenticate, login, logout
from django.middleware.csrf import get_token
from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework import exceptions, permissions, serializers
from rest_framework.response import Response

from everyshelf.service.base.acts import one_act
from everyshelf.service.http.views import ApiView
from everyshelf.service.log.actions import note
from everyshelf.service.people import actions
from everyshelf.service.rights import SCOPES, Caller, caller_of

_TRIES, _WINDOW_SECONDS = 5, 60.0


class SignIn(serializers.Serializer):
    """Name and password."""

    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=1000, trim_whitespace=False)


class Person(serializers.Serializer):
    """Someone who signs in."""

    name = serializers.CharField()
    full_name = serializers.CharField()


class Session(serializers.Serializer):
    """Who is signed in; ``person`` is null for nobody."""

    person = Person(allow_null=True)


class NewPerson(Person):
    """Someone to be added."""

    password = serializers.CharField(max_length=1000, trim_whitespace=False)


class TokenOut(serializers.Serializer):
    """A token without its value."""

    name = serializers.CharField()
    beginning = serializers.CharField()
    scopes = serializers.ListField(child=serializers.CharField())
    created = serializers.DateTimeField()
    expires = serializers.DateTimeField(allow_null=True)
    last_used = serializers.DateTimeField(allow_null=True)


class NewToken(serializers.Serializer):
    """What a token shall be able to do, and for how long."""

    name = serializers.CharField(max_length=100)
    scopes = serializers.ListField(child=serializers.ChoiceField(SCOPES), min_length=1)
    days = serializers.IntegerField(required=False, allow_null=True, default=90)


class TokenMade(TokenOut):
    """A new token with its value, shown this once."""

    value = serializers.CharField()


def person_json(person: Any) -> dict[str, Any]:
    """A person's public form."""
    return {"name": person.username, "full_name": person.first_name or person.username}


def _token_json(token: Any) -> dict[str, Any]:
    return {f: getattr(token, f) for f in ("name", "beginning", "scopes", "created", "expires", "last_used")}


class _Tries:
    """How often a name failed to sign in within the last minute; in memory, for it only has to slow guessing."""

    def __init__(self) -> None:
        self._failed: dict[str, list[float]] = {}
        self._lock = threading.Lock()

    def check(self, name: str) -> None:
        with self._lock:
            recent = [t for t in self._failed.get(name, []) if time.monotonic() - t < _WINDOW_SECONDS]
            self._failed[name] = recent
        if len(recent) >= _TRIES:
            raise exceptions.Throttled(detail="Too many failed tries for this name.")

    def note(self, name: str) -> None:
        with self._lock:
            if len(self._failed) > 10_000:
                self._failed.clear()
            self._failed.setdefault(name, []).append(time.monotonic())


_tries = _Tries()


def _checked(request: Any, name: str, password: str) -> Any:
    """The person of that name and password; raises after too many tries, or if they do not belong together."""
    _tries.check(name)
    person = authenticate(request, username=name, password=password)
    if person is None:
        _tries.note(name)
        raise exceptions.AuthenticationFailed("That name and password do not belong together.")
    return person


class SessionView(ApiView):
    """The session of the console."""

    keeps_answers = False
    permission_classes = [permissions.AllowAny]

    @extend_schema(operation_id="session_get", responses=Session)
    def get(self, request: Any) -> Response:
        """Who is signed in."""
        get_token(request)
        return Response({"person": person_json(request.user) if request.user.is_authenticated else None})

    @extend_schema(operation_id="session_begin", request=SignIn, responses=Session)
    def post(self, request: Any) -> Response:
        """Sign in."""
        given = SignIn(data=request.data)
        given.is_valid(raise_exception=True)
        person = _checked(request, given.validated_data["name"], given.validated_data["password"])
        with one_act():
            login(request._request, person)
            note(Caller(person), "person.signed_in", person.username)
        return Response({"person": person_json(person)})

    @extend_schema(operation_id="session_end", responses={204: None})
    def delete(self, request: Any) -> Response:
        """Sign out."""
        with one_act():
            logout(request._request)
        return Response(status=204)


class SignInForToken(SignIn):
    """Name and password in exchange for a token, for the command line."""

    token_name = serializers.CharField(max_length=100)
    scopes = serializers.ListField(child=serializers.ChoiceField(SCOPES), min_length=1)
    days = serializers.IntegerField(required=False, allow_null=True, default=90)


class SessionTokenView(ApiView):
    """A token for who has none yet."""

    permission_classes = [permissions.AllowAny]
    authentication_classes: list[Any] = []

    @extend_schema(operation_id="session_token", request=SignInForToken, responses={201: TokenMade})
    def post(self, request: Any) -> Response:
        """Make a token with name and password; one of the same name is replaced."""
        given = SignInForToken(data=request.data)
        given.is_valid(raise_exception=True)
        values = given.validated_data
        person = _checked(request, values["name"], values["password"])
        token, value = actions.replace_token(Caller(person), values["token_name"], values["scopes"], values["days"])
        return Response({**_token_json(token), "value": value}, status=201)


class PeopleView(ApiView):
    """People of this installation."""

    @extend_schema(operation_id="people_add", request=NewPerson, responses={201: Person})
    def post(self, request: Any) -> Response:
        """Add someone."""
        given = NewPerson(data=request.data)
        given.is_valid(raise_exception=True)
        person = actions.add_person(caller_of(request), **given.validated_data)
        return Response(person_json(person), status=201)


class TokensView(ApiView):
    """One's own tokens."""

    @extend_schema(operation_id="tokens_list", responses=TokenOut(many=True))
    def get(self, request: Any) -> Response:
        """All of them, without their values."""
        return Response([_token_json(t) for t in request.user.tokens.order_by("name")])

    @extend_schema(operation_id="tokens_make", request=NewToken, responses={201: TokenMade})
    def post(self, request: Any) -> Response:
        """Make one."""
        given = NewToken(data=request.data)
        given.is_valid(raise_exception=True)
        token, value = actions.make_token(caller_of(request), **given.validated_data)
        return Response({**_token_json(token), "value": value}, status=201)


class TokenView(ApiView):
    """One token."""

    @extend_schema(operation_id="tokens_revoke", responses={204: None})
    def delete(self, request: Any, name: str) -> Response:
        """Revoke it."""
        actions.revoke_token(caller_of(request), name)
        return Response(status=204)


urlpatterns = [
    path("session", SessionView.as_view()),
    path("session/token", SessionTokenView.as_view()),
    path("people", PeopleView.as_view()),
    path("tokens", TokensView.as_view()),
    path("tokens/<str:name>", TokenView.as_view()),
]

"""Sign-in, people, tokens."""

from __future__ import annotations

import secrets
from typing import Any

from django.conf import settings
from django.contrib.auth import authenticate, login, logout, update_session_auth_hash
from django.contrib.auth.models import User
from django.middleware.csrf import get_token
from django.urls import path
from drf_spectacular.utils import extend_schema
from rest_framework import exceptions, permissions, serializers
from rest_framework.response import Response

from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.http.views import ApiView, valid
from everyshelf.service.log.actions import note
from everyshelf.service.people import accounts, actions, tries
from everyshelf.service.people.tries import COOKIE, COOKIE_SECONDS, device_cookie, device_of
from everyshelf.service.rights import SCOPES, Caller, caller_of


class SignIn(serializers.Serializer[Any]):
    """Name and password."""

    name = serializers.CharField(max_length=150)
    password = serializers.CharField(max_length=1000, trim_whitespace=False)


class Person(serializers.Serializer[Any]):
    """Someone who signs in."""

    name = serializers.CharField()
    full_name = serializers.CharField()


class Session(serializers.Serializer[Any]):
    """Who is signed in; ``person`` is null for nobody. ``admin``: whether they run this installation.
    ``raw_csv``: whether CSV files leave with formulas as they are."""

    person = Person(allow_null=True)
    admin = serializers.BooleanField()
    raw_csv = serializers.BooleanField()


class NewPerson(Person):
    """Someone to be added."""

    password = serializers.CharField(max_length=1000, trim_whitespace=False)


class Account(Person):
    """An account as those see it who run the installation."""

    active = serializers.BooleanField()
    admin = serializers.BooleanField()
    joined = serializers.DateTimeField()
    last_signed_in = serializers.DateTimeField(allow_null=True)


class AccountChange(serializers.Serializer[Any]):
    """Whether a person may sign in."""

    active = serializers.BooleanField()


class PasswordChange(serializers.Serializer[Any]):
    """The password there is, and the one there shall be."""

    old = serializers.CharField(max_length=1000, trim_whitespace=False)
    new = serializers.CharField(max_length=1000, trim_whitespace=False)


class NewPassword(serializers.Serializer[Any]):
    """A new password for a person; random if left empty."""

    password = serializers.CharField(
        max_length=1000, trim_whitespace=False, required=False, default="", allow_blank=True
    )


class PasswordMade(serializers.Serializer[Any]):
    """A new password, shown this once."""

    password = serializers.CharField()


class SessionsEnded(serializers.Serializer[Any]):
    """How many sessions ended."""

    ended = serializers.IntegerField()


class TokenOut(serializers.Serializer[Any]):
    """A token without its value."""

    name = serializers.CharField()
    beginning = serializers.CharField()
    scopes = serializers.ListField(child=serializers.CharField())
    created = serializers.DateTimeField()
    expires = serializers.DateTimeField(allow_null=True)
    last_used = serializers.DateTimeField(allow_null=True)


class NewToken(serializers.Serializer[Any]):
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


def _session_json(person: Any) -> dict[str, Any]:
    return {
        "person": person_json(person) if person is not None else None,
        "admin": person is not None and person.is_staff,
        "raw_csv": get_config().raw_csv,
    }


def _token_json(token: Any) -> dict[str, Any]:
    return {f: getattr(token, f) for f in ("name", "beginning", "scopes", "created", "expires", "last_used")}


def _checked(request: Any, name: str, password: str) -> Any:
    """The person of that name and password; raises after too many tries, or if they do not belong together."""
    address, device = str(request.META.get("REMOTE_ADDR", "")), device_of(request, name)
    tries.check(name, address, device)
    person = authenticate(request, username=name, password=password)
    if person is None:
        tries.note_failure(name, address, device)
        raise exceptions.AuthenticationFailed("Wrong name or password.")
    tries.note_success(name, address)
    return person


class SessionView(ApiView):
    """The session of the console."""

    keeps_answers = False
    permission_classes = [permissions.AllowAny]

    @extend_schema(operation_id="session_get", responses=Session)
    def get(self, request: Any) -> Response:
        """Return who is signed in."""
        get_token(request)
        return Response(_session_json(request.user if request.user.is_authenticated else None))

    @extend_schema(operation_id="session_begin", request=SignIn, responses=Session)
    def post(self, request: Any) -> Response:
        """Sign in with name and password and begin a session."""
        given = SignIn(data=request.data)
        given.is_valid(raise_exception=True)
        person = _checked(request, given.validated_data["name"], given.validated_data["password"])
        with one_act():
            login(request._request, person)
            note(Caller(person), "person.signed_in", person.username)
        answer = Response(_session_json(person))
        answer.set_cookie(
            COOKIE,
            device_cookie(person.username, secrets.token_urlsafe(12)),
            max_age=COOKIE_SECONDS,
            path="/api/v1/session",
            secure=settings.SESSION_COOKIE_SECURE,
            httponly=True,
            samesite="Strict",
        )
        return answer

    @extend_schema(operation_id="session_end", responses={204: None})
    def delete(self, request: Any) -> Response:
        """Sign out and end the session."""
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

    keeps_answers = False
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
        """Add a person with an account."""
        given = NewPerson(data=request.data)
        given.is_valid(raise_exception=True)
        person = actions.add_person(caller_of(request), **given.validated_data)
        return Response(person_json(person), status=201)

    @extend_schema(operation_id="people_list", responses=Account(many=True))
    def get(self, request: Any) -> Response:
        """List every account. For administrators of the installation."""
        return Response([accounts.account_json(p) for p in accounts.list_people(caller_of(request))])


class PersonView(ApiView):
    """One account; for those who run the installation."""

    @extend_schema(operation_id="people_change", request=AccountChange, responses=Account)
    def patch(self, request: Any, name: str) -> Response:
        """Disable or enable a person's account."""
        values = valid(AccountChange, request)
        return Response(accounts.account_json(accounts.set_active(caller_of(request), name, values["active"])))


class PersonPasswordView(ApiView):
    """The password of another person, for administrators of the installation."""

    @extend_schema(operation_id="people_reset_password", request=NewPassword, responses=PasswordMade)
    def post(self, request: Any, name: str) -> Response:
        """Give a person a new password and end their sessions."""
        values = valid(NewPassword, request)
        return Response({"password": accounts.reset_password(caller_of(request), name, values["password"])})


class PersonSessionsView(ApiView):
    """Sessions of a person: one's own, or for those who run the installation anybody's."""

    @extend_schema(operation_id="people_end_sessions", responses={200: SessionsEnded})
    def delete(self, request: Any, name: str) -> Response:
        """End all sessions of a person; the one this is asked with continues."""
        keep = getattr(getattr(request._request, "session", None), "session_key", None) or ""
        return Response({"ended": accounts.end_sessions(caller_of(request), name, keep=keep)})


class OwnPasswordView(ApiView):
    """One's own password."""

    @extend_schema(operation_id="session_password", request=PasswordChange, responses={204: None})
    def put(self, request: Any) -> Response:
        """Change your password; all your other sessions end."""
        values = valid(PasswordChange, request)
        caller = caller_of(request)
        accounts.change_password(caller, values["old"], values["new"])
        if request.auth is None:
            with one_act():
                update_session_auth_hash(request._request, User.objects.get(pk=caller.person.pk))
        return Response(status=204)


class TokensView(ApiView):
    """One's own tokens."""

    @extend_schema(operation_id="tokens_list", responses=TokenOut(many=True))
    def get(self, request: Any) -> Response:
        """List your tokens, without their values."""
        return Response([_token_json(t) for t in request.user.tokens.order_by("name")])

    @extend_schema(operation_id="tokens_make", request=NewToken, responses={201: TokenMade})
    def post(self, request: Any) -> Response:
        """Make a token. Its value is shown only once."""
        given = NewToken(data=request.data)
        given.is_valid(raise_exception=True)
        token, value = actions.make_token(caller_of(request), **given.validated_data)
        return Response({**_token_json(token), "value": value}, status=201)


class TokenView(ApiView):
    """One token."""

    @extend_schema(operation_id="tokens_revoke", responses={204: None})
    def delete(self, request: Any, name: str) -> Response:
        """Revoke a token immediately."""
        actions.revoke_token(caller_of(request), name)
        return Response(status=204)


urlpatterns = [
    path("session", SessionView.as_view()),
    path("session/token", SessionTokenView.as_view()),
    path("session/password", OwnPasswordView.as_view()),
    path("people", PeopleView.as_view()),
    path("people/<str:name>", PersonView.as_view()),
    path("people/<str:name>/password", PersonPasswordView.as_view()),
    path("people/<str:name>/sessions", PersonSessionsView.as_view()),
    path("tokens", TokensView.as_view()),
    path("tokens/<str:name>", TokenView.as_view()),
]

"""Sign-in of programs that know names and passwords only: a token is the password. A bearer token does as well."""

from __future__ import annotations

import base64

from django.http import HttpRequest
from rest_framework import exceptions

from everyshelf.core.errors import RefusedError
from everyshelf.service.people.authentication import BearerAuthentication
from everyshelf.service.rights import Caller


class NotSignedInError(RefusedError):
    """Nobody has signed in."""

    code = "session.missing"


def caller_by_token(request: HttpRequest) -> Caller:
    """The person whose token is the password; the name is not looked at. Raises ``NotSignedInError``."""
    scheme, _, value = request.headers.get("Authorization", "").partition(" ")
    token = value.strip()
    if scheme.lower() == "basic":
        try:
            token = base64.b64decode(token, validate=True).decode().partition(":")[2]
        except ValueError as error:
            raise NotSignedInError("The sign-in cannot be read.") from error
    elif scheme.lower() != "bearer":
        raise NotSignedInError("Sign in with your name and a token as password. Make one: everyshelf token make NAME")
    request.META["HTTP_AUTHORIZATION"] = f"Bearer {token}"
    del request.headers  # they are read once and kept
    try:
        found = BearerAuthentication().authenticate(request)
    except exceptions.AuthenticationFailed as error:
        raise NotSignedInError(f"{error.detail} Make another: everyshelf token make NAME") from error
    assert found is not None
    person, record = found
    return Caller(person, frozenset(record.scopes), record.name, record)

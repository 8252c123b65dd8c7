"""Bearer tokens (RFC 6750)."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from django.utils import timezone
from drf_spectacular.extensions import OpenApiAuthenticationExtension
from rest_framework import authentication, exceptions

from everyshelf.service.base.acts import aside
from everyshelf.service.people.actions import find_token

_NOTE_USE_EVERY = timedelta(minutes=5)


class BearerAuthentication(authentication.BaseAuthentication):
    """``Authorization: Bearer TOKEN``; anything else is left to the session."""

    def authenticate(self, request: Any) -> tuple[Any, Any] | None:
        """The person and the token, None without the header; raises for a wrong, revoked or expired one."""
        scheme, _, value = request.headers.get("Authorization", "").partition(" ")
        if scheme.lower() != "bearer":
            return None
        token = find_token(value.strip())
        if token is None or not token.person.is_active:
            raise exceptions.AuthenticationFailed("The token is not known here, or was revoked.")
        now = timezone.now()
        if token.expires is not None and token.expires <= now:
            raise exceptions.AuthenticationFailed(f"The token {token.name} expired at {token.expires:%Y-%m-%d %H:%M}.")
        if token.last_used is None or now - token.last_used > _NOTE_USE_EVERY:
            with aside():
                type(token).objects.filter(pk=token.pk).update(last_used=now)
        return token.person, token

    def authenticate_header(self, request: Any) -> str:
        """What a 401 asks for."""
        return 'Bearer realm="Every Shelf"'


class BearerScheme(OpenApiAuthenticationExtension):  # type: ignore[no-untyped-call]
    """How the OpenAPI document describes it."""

    target_class = BearerAuthentication
    name = "token"

    def get_security_definition(self, auto_schema: Any) -> dict[str, str]:
        """An HTTP bearer scheme."""
        return {"type": "http", "scheme": "bearer"}

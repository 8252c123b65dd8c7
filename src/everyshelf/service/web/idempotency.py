"""Writes that carry ``Idempotency-Key``: sent again, they give the same answer and do nothing twice."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from typing import Any

import orjson
from django.db import IntegrityError
from rest_framework.response import Response

from everyshelf.core.errors import ConflictError
from everyshelf.service.shelves.models import WriteAnswer


def once(request: Any, act: Callable[[], Response]) -> Response:
    """The answer of ``act``, or the one kept for this person and key; a key used for another request is refused."""
    key = request.headers.get("Idempotency-Key", "")[:100]
    if not key:
        return act()
    print_of = orjson.dumps([request.method, request.path, request.data], option=orjson.OPT_SORT_KEYS)
    fingerprint = hashlib.sha256(print_of).hexdigest()
    known = WriteAnswer.objects.filter(person=request.user, key=key).first()
    if known is not None:
        if known.request != fingerprint:
            raise ConflictError(
                "this idempotency key was used for another request", code="input.key_reused", hint="Send a new key."
            )
        return Response(known.answer, status=known.status)
    response = act()
    # Kept in the very form it is sent in, so that both answers are equal byte for byte.
    answer = orjson.loads(orjson.dumps(response.data, option=orjson.OPT_UTC_Z))
    try:
        WriteAnswer.objects.create(
            person=request.user, key=key, request=fingerprint, status=response.status_code, answer=answer
        )
    except IntegrityError:
        pass  # the same request in parallel: its own answer stands
    return response

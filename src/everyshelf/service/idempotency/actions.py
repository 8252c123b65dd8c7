"""Writes that carry ``Idempotency-Key``: sent again, they give the same answer and do nothing twice.

The answer is recorded in the transaction of the act itself. Two requests with one key at the same moment both work out
what they would do; the second one's transaction begins after the first one's end, finds the answer there and gives it.
"""

from __future__ import annotations

import hashlib
import zlib
from datetime import timedelta
from typing import Any

import orjson
from django.utils import timezone

from everyshelf.core.answers.base import as_builtins
from everyshelf.core.errors import ConflictError
from everyshelf.service.base.keys import seal_bytes, unseal_bytes
from everyshelf.service.idempotency.models import KeptAnswer

KEPT_FOR = timedelta(days=7)


class KeyedWrite:
    """One write with its key."""

    def __init__(self, owner: str, key: str, method: str, address: str, body: bytes) -> None:
        self.owner = owner
        self.key = key
        digest = hashlib.sha256(orjson.dumps([method, address]))
        digest.update(body)
        self.request = digest.hexdigest()

    def known_answer(self) -> tuple[int, Any] | None:
        """Status and answer given before; raises ``ConflictError`` if the key was used for another request."""
        row = KeptAnswer.objects.filter(owner=self.owner, key=self.key).first()
        if row is None:
            return None
        if row.request != self.request:
            raise ConflictError(
                "this idempotency key was used for another request", code="input.key_reused", hint="Send a new key."
            )
        return row.status, orjson.loads(zlib.decompress(unseal_bytes(row.answer)))

    def keep(self, status: int, answer: Any) -> Any:
        """Record the answer; call it inside the transaction of the act. Gives it back in the form it will always be
        sent in, so that both answers are equal byte for byte."""
        data = orjson.dumps(answer, default=as_builtins, option=orjson.OPT_UTC_Z | orjson.OPT_NON_STR_KEYS)
        KeptAnswer.objects.create(
            owner=self.owner,
            key=self.key,
            request=self.request,
            status=status,
            answer=seal_bytes(zlib.compress(data, 1)),
        )
        return orjson.loads(data)


def prune_answers() -> int:
    """Remove answers older than a week, a few at a time; gives how many."""
    old = KeptAnswer.objects.filter(made__lt=timezone.now() - KEPT_FOR).order_by("pk").values_list("pk", flat=True)
    count, _ = KeptAnswer.objects.filter(pk__in=list(old[:500])).delete()
    return count

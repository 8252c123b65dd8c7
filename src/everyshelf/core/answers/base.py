"""What all answers have in common."""

from __future__ import annotations

from typing import Any

import msgspec


class Answer(msgspec.Struct, kw_only=True, omit_defaults=True):
    """A part of an answer. In its JSON form a member is left out where it has its default; members without a default
    are always there, null included."""


def as_builtins(answer: Any) -> Any:
    """Answers, or lists and mappings of them, as dicts and lists; scalars of file formats become texts."""
    return msgspec.to_builtins(answer, enc_hook=str)


def as_json(answer: Any) -> bytes:
    """The JSON form in UTF-8. Raises ``UnicodeEncodeError`` for text that UTF-8 cannot hold."""
    return msgspec.json.encode(answer, enc_hook=str)

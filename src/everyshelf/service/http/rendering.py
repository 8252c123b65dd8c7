"""JSON out, by orjson: faster than the standard encoder, and exact about times and numbers."""

from __future__ import annotations

from typing import Any

import orjson
from rest_framework.renderers import BaseRenderer

from everyshelf.core.answers.base import as_builtins


def as_json(data: Any) -> bytes:
    """UTF-8 bytes of an answer, or of a part of one."""
    return orjson.dumps(data, default=as_builtins, option=orjson.OPT_NON_STR_KEYS | orjson.OPT_UTC_Z)


class JsonRenderer(BaseRenderer):
    """Renders whatever a view returns."""

    media_type = "application/json"
    format = "json"
    charset = None

    def render(self, data: Any, accepted_media_type: str | None = None, renderer_context: Any = None) -> bytes:
        """UTF-8 bytes; nothing for an empty answer."""
        return b"" if data is None else as_json(data)

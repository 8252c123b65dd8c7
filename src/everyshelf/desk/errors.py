"""What stands in the way on a desk."""

from __future__ import annotations

from everyshelf.core.errors import EveryShelfError


class DeskError(EveryShelfError):
    """Something on the desk stands in the way; ``code`` is stable, ``hint`` is the next step."""

    code = "desk.failed"

    def __init__(self, message: str, *, code: str, hint: str = "") -> None:
        super().__init__(message, code=code, hint=hint)

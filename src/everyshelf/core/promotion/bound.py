"""What putting bindings into an artifact gives, known without the readers that do it."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.errors import InvalidError

MOST_BYTES = 20 * 1024 * 1024


@dataclass(frozen=True)
class Bound:
    """An artifact with its bindings put in: the bytes, the names used, and those that have no value."""

    data: bytes
    used: tuple[str, ...]
    missing: tuple[str, ...]


def check_bindable(path: str, size: int) -> None:
    """Raise ``InvalidError`` (binding.place) for an artifact of more bytes than bindings are put into."""
    if size > MOST_BYTES:
        raise InvalidError(
            f"{path} is over {MOST_BYTES >> 20} MB: no binding is put into it",
            code="binding.place",
            hint="Name a smaller artifact in shelf.toml, [bindings].",
        )

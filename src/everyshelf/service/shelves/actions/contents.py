"""Contents going in and out, always scoped to one shelf."""

from __future__ import annotations

import tempfile
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

from everyshelf.core.content import ContentInfo, is_content_id
from everyshelf.core.errors import InvalidError, LimitError, MissingError
from everyshelf.service.config import get_config
from everyshelf.service.context import get_store
from everyshelf.service.shelves.models import Shelf, ShelfContent


def take_in(shelf: Shelf, pieces: Iterable[bytes], expected: int | None) -> ContentInfo:
    """Store an upload and note that the shelf holds it; the id is computed here, never believed.

    ``expected`` is the announced length: an upload broken off looks like a clean end, so both must agree.
    """
    limit = get_config().max_upload_bytes
    if expected is not None and expected > limit:
        raise _too_large(limit)
    store = get_store()
    writer = store.writer()
    for piece in pieces:
        writer.write(piece)
        if writer.size > limit:
            raise _too_large(limit)
    if expected is not None and writer.size != expected:
        raise InvalidError(
            f"the upload broke off after {writer.size} of {expected} bytes",
            code="content.incomplete",
            hint="Send it again; nothing was kept of it.",
        )
    info = writer.finish()
    store.sync()
    ShelfContent.objects.get_or_create(shelf=shelf, content=info.id, defaults={"size": info.size})
    return info


def _too_large(limit: int) -> LimitError:
    return LimitError(
        f"the content is larger than the {limit} bytes this service takes",
        code="content.too_large",
        hint="Whoever runs the service can raise EVERYSHELF_MAX_UPLOAD.",
    )


def missing_of(shelf: Shelf, identities: list[str]) -> list[str]:
    """Those of the ids that the shelf does not hold."""
    for identity in identities:
        if not is_content_id(identity):
            raise InvalidError(f"{identity[:80]!r} is no content id", code="content.id")
    held = held_of(shelf, identities)
    return [i for i in dict.fromkeys(identities) if i not in held]


def held_of(shelf: Shelf, identities: Iterable[str]) -> dict[str, int]:
    """Id -> size of those contents that the shelf holds."""
    wanted, found = list(dict.fromkeys(identities)), {}
    for start in range(0, len(wanted), 500):
        rows = ShelfContent.objects.filter(shelf=shelf, content__in=wanted[start : start + 500])
        found.update(dict(rows.values_list("content", "size")))
    return found


def get_size(shelf: Shelf, identity: str) -> int:
    """Size of a content of the shelf; raises ``MissingError``."""
    row = ShelfContent.objects.filter(shelf=shelf, content=identity).first() if is_content_id(identity) else None
    if row is None:
        raise MissingError(f"the shelf holds no content {identity[:12]!r}", code="content.missing")
    return row.size


@contextmanager
def as_file(identity: str) -> Iterator[Path]:
    """A temporary file with the content, for a reading process."""
    store = get_store()
    with tempfile.NamedTemporaryFile(dir=get_config().scratch, prefix="read-") as file:
        for piece in store.iter_range(identity):
            file.write(piece)
        file.flush()
        yield Path(file.name)

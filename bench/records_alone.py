"""How long the records alone take that a history brings, and its contents: limits for fetching it, measured beside it.

Runs with the records of a service, in a process of its own: it writes the rows of a shelf once more, as the service
writes them, in a transaction that is taken back; and everything that its store holds once more into an empty one.
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

from django.db import models, transaction

from everyshelf.core.content.records import CHUNK
from everyshelf.core.content.store import ContentStore
from everyshelf.service.base.context import get_store
from everyshelf.service.exchange.models import GitPair, GitTransfer
from everyshelf.service.shelves.models import Artifact, ArtifactVersion, Commit, CommitParent, Shelf, ShelfContent

_TABLES: dict[type[models.Model], str] = {
    Commit: "shelf",
    CommitParent: "commit__shelf",
    Artifact: "shelf",
    ArtifactVersion: "shelf",
    ShelfContent: "shelf",
    GitPair: "shelf",
    GitTransfer: "commit__shelf",
}


def seconds_of(shelf_key: str) -> float:
    """How long it takes to write all rows of a shelf that has no other work."""
    shelf = Shelf.objects.get(key=shelf_key)
    tables = {
        m: list(m._default_manager.filter(**{path: shelf}).order_by("pk").values()) for m, path in _TABLES.items()
    }
    with transaction.atomic():
        for model in reversed(tables):
            model._default_manager.all()._raw_delete("default")
        begun = time.monotonic()
        for model, rows in tables.items():
            model._default_manager.bulk_create([model(**row) for row in rows], batch_size=500)
        seconds = time.monotonic() - begun
        transaction.set_rollback(True)
    return seconds


def contents_seconds() -> float:
    """How long it takes to hash, compress and write all contents and folders of a store of small ones, in one go."""
    store = get_store()
    held = {record.id for _, _, record in store.segments.iter_all() if record.kind != CHUNK}
    contents = [store.read(identity.hex()) for identity in held]
    with tempfile.TemporaryDirectory(prefix="es-alone-") as folder:
        other = ContentStore(Path(folder))
        begun = time.monotonic()
        for data in contents:
            other.put(data)
        other.sync()
        seconds = time.monotonic() - begun
        other.close()
    return seconds

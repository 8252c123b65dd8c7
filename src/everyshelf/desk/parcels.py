"""Bringing a parcel onto a shelf, perhaps of another installation."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory

from everyshelf.client import ChangeRequest, Commit, CommitMessage, ShelfClient
from everyshelf.core.parcel import Parcel


def unpack_onto_shelf(
    parcel: Parcel,
    shelf: ShelfClient,
    branch: str,
    summary: str,
    progress: Callable[[int, int, str], None] = lambda done, total, note: None,
) -> Commit:
    """Check the whole parcel, upload what the shelf does not hold, and commit all of it; nothing else changes there."""
    parcel.verify()
    missing = set(shelf.missing(parcel.digests.values()))
    with TemporaryDirectory(prefix="everyshelf-parcel-") as folder:
        for done, (path, digest) in enumerate(sorted(parcel.digests.items())):
            progress(done, len(parcel.digests), path)
            if digest not in missing:
                continue
            file = Path(folder, "content")
            with file.open("wb") as opened:
                opened.writelines(parcel.read(path))
            shelf.upload(file)
            missing.discard(digest)
    changes = [ChangeRequest(path, digest) for path, digest in sorted(parcel.digests.items())]
    labels = {name: str(parcel.about[name])[:100] for name in ("shelf", "ref", "commit") if parcel.about.get(name)}
    said = {f"parcel {name}": value for name, value in labels.items()}
    return shelf.commit(branch, shelf.branch(branch).head, changes, CommitMessage(summary, labels=said))

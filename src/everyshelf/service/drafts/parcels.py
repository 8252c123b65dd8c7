"""What is in a parcel, brought into the caller's draft."""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from everyshelf.core.history.paths import check_path
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees, unpacker
from everyshelf.service.drafts.actions import Saving, save
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.contents import get_size, take_in
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.models import Shelf


def unpack_into_draft(caller: Caller, shelf: Shelf, branch: str, content: str) -> dict[str, Any]:
    """Check the whole parcel that was uploaded as ``content``, and save what is in it and is not there yet; all of it
    or nothing. Raises ``InvalidError`` (parcel.…) for one that is unsafe or was tampered with, by name of the file."""
    require(caller, shelf, "commit")
    get_size(shelf, content)  # one that this shelf does not hold is missing
    state = resolve(shelf, f"draft:{branch}", caller.person)
    here = {path: entry.id for path, entry in get_trees().files(state.root)}
    with TemporaryDirectory(dir=get_config().scratch, prefix="parcel-") as folder:
        file = Path(folder, "uploaded.parcel.zip")
        with file.open("wb") as opened:
            opened.writelines(get_store().iter_range(content))
        files = Path(folder, "files")
        with unpacker() as worker:
            unpacked = worker.unpack(file, files, here)
        fresh = sorted(path for path, digest in unpacked.digests.items() if here.get(path) != digest)
        savings = [Saving(check_path(path), _taken_in(shelf, files / path)) for path in fresh]
    draft = save(caller, shelf, branch, None, savings) if savings else None
    return {
        "parcel": unpacked.name,
        "branch": branch,
        "artifacts": [{"path": path, "state": "changed" if path in here else "added"} for path in fresh],
        "same": len(unpacked.digests) - len(fresh),
        "pending": len(draft["entries"]) if draft else 0,
    }


def _taken_in(shelf: Shelf, file: Path) -> str:
    with file.open("rb") as opened:
        return take_in(shelf, iter(lambda: opened.read(1 << 20), b""), None).id

"""Files of a clone that are content notes in Git: Git is told they are unchanged; when the filter goes, they return."""

from __future__ import annotations

import hashlib
import shutil
from collections.abc import Iterable

from everyshelf.gitside.notes import MOST_BYTES, ContentNote, kind_by_name, write_content_note
from everyshelf.gitside.objects import object_id
from everyshelf.gitside.plain.filtering import Remembered
from everyshelf.gitside.plain.setup import Scope

_AT_ONCE = 400  # paths in a command line


def files_of_index(scope: Scope) -> dict[str, str]:
    """Path and blob id of each file in the index."""
    found = {}
    for row in scope.git("ls-files", "-s", "-z").split("\0")[:-1]:
        told, _, path = row.partition("\t")
        found[path] = told.split()[1]
    return found


def is_note_of(blob: str, path: str, identity: str, size: int) -> bool:
    """Whether a blob is the note of a content."""
    return blob == object_id("blob", write_content_note(ContentNote(identity, size, kind_by_name(path))))


def tell_git(scope: Scope, paths: Iterable[str]) -> None:
    """Let Git read files again that are the same to it: their size and time have changed, what is committed has not."""
    wanted = list(paths)
    for at in range(0, len(wanted), _AT_ONCE):
        scope.git("--literal-pathspecs", "add", "-u", "--", *wanted[at : at + _AT_ONCE])


def put_notes_back(scope: Scope, remembered: Remembered) -> list[str]:
    """Write the note into each file whose content is that note in Git; gives their paths. Edited files stay as they
    are. What the filter remembers goes, too."""
    assert scope.folder is not None
    written = []
    for path, blob in files_of_index(scope).items():
        file = scope.folder / path
        if file.is_symlink() or not file.is_file() or file.stat().st_size <= MOST_BYTES:
            continue
        with file.open("rb") as stream:
            identity = hashlib.file_digest(stream, "sha256").hexdigest()
        if remembered.state(identity) != "note":
            continue
        size = file.stat().st_size
        if is_note_of(blob, path, identity, size):
            file.write_bytes(write_content_note(ContentNote(identity, size, kind_by_name(path))))
            written.append(path)
    shutil.rmtree(remembered.folder, ignore_errors=True)
    return written

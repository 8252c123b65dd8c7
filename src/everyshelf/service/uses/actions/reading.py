"""Reading what versions name: after each commit in its job, and what is left when it is asked for."""

from __future__ import annotations

import time
import zlib
from collections.abc import Callable, Iterable

import msgspec
from django.db import connection, transaction

from everyshelf.core.answers.uses import NO_REFERENCES, FileReferences, Reference
from everyshelf.core.compare.artifact import READER_VERSION
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.registry import packages
from everyshelf.core.uses.names import beside, keys_of, tidied
from everyshelf.core.uses.places import LINKED_KINDS
from everyshelf.decoding import from_msgpack
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.base.working import WorkingError
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.naming import MOST_NAMING_BYTES, names_of
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import Resolved
from everyshelf.service.shelves.actions.seen import see_versions, versions_at
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.models import Commit, CommitParent, Shelf
from everyshelf.service.uses.models import NamedKey, NamesRead, StateRead

Tell = Callable[[int, int, str], None]
_AT_ONCE = 200
_MOST_IN_COMMIT = 500
_BETWEEN_LOOKS = 20  # versions read before it is looked at the clock, or told how far it is
_LONGEST_KEY = 300
_KEYS_VERSION = 2  # raised when what is kept with a key changes
_ALL_COLUMNS = "allcolumnsofatable"


class UsesReadingError(WorkingError):
    """A job is reading what the artifacts name."""

    code = "uses.reading"

    def __init__(self, job: str, left: int) -> None:
        super().__init__(
            f"reading what the {left} artifacts that are left name takes longer than an answer may: a job does it", job
        )


def reader_mark() -> str:
    """What says whether a reading is still right: the readers, the keys and the kinds that were added."""
    return f"{READER_VERSION}.{_KEYS_VERSION} {packages()}"[:64]


def read_commit(commit: Commit, give_way: Callable[[], None]) -> None:
    """Read what the artifacts that a commit set name (the work of a job), and note that its state is read.

    Of a commit of more than 500 artifacts only some are read."""
    versions = see_versions(commit.versions.filter(content__gt="", kind__in=LINKED_KINDS)[: _MOST_IN_COMMIT + 1])
    done = _read_already({version.pk for version in versions})
    todo = [version for version in versions[:_MOST_IN_COMMIT] if version.pk not in done]
    for start in range(0, len(todo), _BETWEEN_LOOKS):
        _read(commit.shelf, todo[start : start + _BETWEEN_LOOKS])
        give_way()
    if len(versions) > _MOST_IN_COMMIT:
        return  # whoever asks has a job of its own read the rest
    unread = _not_readable(versions)
    first = CommitParent.objects.filter(commit=commit, position=0).select_related("parent").first()
    if first is not None:
        before = StateRead.objects.filter(shelf=commit.shelf, root=first.parent.root, reader=reader_mark()).first()
        if before is None:
            return  # whoever asks has it read
        touched = {change.path for change in get_trees().changes(first.parent.root, commit.root)}
        merged = {v.path for v in versions}
        if not _known(commit, touched - merged):
            return
        unread = sorted({path for path in before.unread if path not in touched} | set(unread))
    _note(commit.shelf, commit.root, unread)


def _known(commit: Commit, paths: set[str]) -> bool:
    """Whether what lies at these paths was read in another version: what a merge brought, or a step back."""
    entries = {path: entry for path in paths if (entry := get_trees().find(commit.root, path)) is not None}
    versions = versions_at(commit.shelf, commit, {path: entry.id for path, entry in entries.items()})
    keys = {v.pk for v in versions.values() if v.kind in LINKED_KINDS}
    return len(versions) == len(entries) and not (keys - _read_already(keys))


def unread_at(caller: Caller, shelf: Shelf, at: Resolved) -> list[str]:
    """The paths of a state that could not be looked through. Reads what is left first, or has a job do it.

    Raises ``UsesReadingError`` where that takes longer than an answer may.
    """
    if at.commit is not None and at.commit.root != at.root:  # a draft: what is pending in it has no version yet
        of_commit = Resolved(at.ref, at.kind, at.commit, at.commit.root)
        pending = {c.path for c in get_trees().changes(at.commit.root, at.root) if c.after is not None}
        return sorted(pending | set(unread_at(caller, shelf, of_commit)))
    known = StateRead.objects.filter(shelf=shelf, root=at.root, reader=reader_mark()).first()
    if known is not None:
        return list(known.unread)
    if at.commit is None:
        return []
    left = read_state(shelf, at.commit, at.root, seconds=get_config().merge_seconds)
    if left:
        job = start_job(caller, "uses", shelf, {"commit": at.commit.uid})
        raise UsesReadingError(job.uid, left)
    return list(StateRead.objects.get(shelf=shelf, root=at.root).unread)


def read_state(
    shelf: Shelf, commit: Commit, root: str, *, seconds: float | None = None, tell: Tell | None = None
) -> int:
    """Read everything in a state that is not read; gives how many artifacts are left after ``seconds``."""
    entries = {path: entry for path, entry in get_trees().walk(root) if entry.type == "artifact"}
    versions = versions_at(shelf, commit, {path: entry.id for path, entry in entries.items()})
    naming = [version for version in versions.values() if version.kind in LINKED_KINDS]
    done = _read_already({version.pk for version in naming})
    todo = [version for version in naming if version.pk not in done]
    end = time.monotonic() + seconds if seconds is not None else None
    for start in range(0, len(todo), _BETWEEN_LOOKS):
        if end is not None and time.monotonic() > end:
            return len(todo) - start
        if tell is not None:
            tell(start, len(todo), todo[start].path)
        _read(shelf, todo[start : start + _BETWEEN_LOOKS])
    _note(shelf, root, _not_readable(naming))
    return 0


def _not_readable(naming: list[SeenVersion]) -> list[str]:
    """Paths of those that are too large, or whose readers gave up."""
    failed: list[str] = []
    for start in range(0, len(naming), _AT_ONCE):
        some = {version.pk: version.path for version in naming[start : start + _AT_ONCE]}
        rows = NamesRead.objects.filter(version__in=some).values_list("version_id", "found")
        failed += [some[key] for key, found in rows if not unpacked(found).read]
    return sorted(failed)


def _read_already(keys: set[int]) -> set[int]:
    found: set[int] = set()
    ordered = sorted(keys)
    for start in range(0, len(ordered), _AT_ONCE):
        rows = NamesRead.objects.filter(version__in=ordered[start : start + _AT_ONCE], reader=reader_mark())
        found |= set(rows.values_list("version_id", flat=True))
    return found


def _read(shelf: Shelf, versions: Iterable[SeenVersion]) -> list[str]:
    """Read versions and keep what they name; gives the paths of those that could not be read."""
    read: list[tuple[SeenVersion, FileReferences]] = []
    failed = []
    for version in versions:
        found = _names(version)
        if not found.read:
            failed.append(version.path)
        read.append((version, found))
        if len(read) == _AT_ONCE:
            _write(shelf, read)
            read = []
    _write(shelf, read)
    return sorted(failed)


def _names(version: SeenVersion) -> FileReferences:
    if version.size > MOST_NAMING_BYTES or get_store().lies_outside(version.content):
        return NO_REFERENCES
    rules = rules_at(version.commit.root)
    found = names_of(version.path, Entry(version.path, "artifact", version.content, version.size), rules)
    return found or NO_REFERENCES


def _write(shelf: Shelf, read: list[tuple[SeenVersion, FileReferences]]) -> None:
    if not read:
        return
    mark = reader_mark()
    with aside(), transaction.atomic(), connection.cursor() as cursor:
        # Those of older readers give way; another worker may have been quicker with the same.
        known = {version.pk for version, _ in read}
        NamesRead.objects.filter(version__in=known).exclude(reader=mark).delete()
        known -= set(NamesRead.objects.filter(version__in=known).values_list("version_id", flat=True))
        for version, found in read:
            if version.pk not in known:
                continue
            packed = zlib.compress(msgspec.msgpack.encode(found), 6)
            row = NamesRead.objects.create(version_id=version.pk, shelf=shelf, reader=mark, found=packed)
            NamedKey.objects.bulk_create(_keys(row, shelf, version.path, found), batch_size=_AT_ONCE)
            words = _words(found)
            if words:
                cursor.execute("INSERT INTO uses_words(rowid, words) VALUES (%s, %s)", [row.pk, words])


def _keys(row: NamesRead, shelf: Shelf, path: str, found: FileReferences) -> list[NamedKey]:
    role = NamedKey.Role
    named = (
        (key, role.WRITES if one.writes else role.READS, *_as_file(one, path))
        for one in found.names
        for key in keys_of(one)
    )
    offered = ((key, role.OFFERS, "", "") for key in found.offers)
    return [
        NamedKey(read=row, shelf=shelf, key=key[:_LONGEST_KEY], role=how, name=name, beside=by_holder)
        for key, how, name, by_holder in dict.fromkeys([*named, *offered])
    ]


def _as_file(named: Reference, path: str) -> tuple[str, str]:
    """What is kept of a file name in the artifact at ``path``: the name, and where that is beside the artifact."""
    if named.what != "file":
        return "", ""
    name = tidied(named.text)
    by_holder = beside(path, name)
    return (name, by_holder) if max(len(name), len(by_holder)) <= _LONGEST_KEY else ("", "")


def _words(found: FileReferences) -> str:
    """Everything that may be the name of a part others use."""
    words = dict.fromkeys(found.words)
    for one in found.names:
        if one.what in ("call", "id", "message"):
            words[one.text] = None
        for used in one.parts or ():
            words[_ALL_COLUMNS if used.name == "*" else used.name] = None
    return "\n".join(words)


def words_wanted(parts: Iterable[str]) -> str:
    """A full-text query for what may use one of the parts. A call is found by its words."""
    quoted = ['"' + part.rpartition(" ")[2].replace('"', '""') + '"' for part in parts if any(map(str.isalnum, part))]
    return " OR ".join([*quoted, _ALL_COLUMNS])


def _note(shelf: Shelf, root: str, unread: list[str]) -> None:
    with aside(), transaction.atomic():
        StateRead.objects.update_or_create(shelf=shelf, root=root, defaults={"reader": reader_mark(), "unread": unread})


def unpacked(found: bytes | memoryview) -> FileReferences:
    """What a version names."""
    return from_msgpack(zlib.decompress(found), FileReferences)

"""Single files and their parts: unfolded, folded and merged in a reading process, and remembered."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from tempfile import TemporaryDirectory

from everyshelf.core.errors import InvalidError, LimitError, UnreadableError
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.unfolding.folders import FOLDER_SUFFIX
from everyshelf.core.unfolding.model import MANIFEST, Unfolded, read_manifest
from everyshelf.core.unfolding.parcels import packed, unpacked_files
from everyshelf.core.unfolding.whole import UNFOLDED_KINDS
from everyshelf.service.base.acts import aside
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees, reader
from everyshelf.service.exchange.models import UnfoldedContent
from everyshelf.service.shelves.actions.contents import as_file, take_in
from everyshelf.service.shelves.actions.recognising import kinds_of
from everyshelf.service.shelves.models import Shelf

MOST_BYTES = 200 * 1024 * 1024
_AT_ONCE = 500
Named = tuple[str, str]  # a file's name and content


def folder_name(name: str) -> str:
    """What the folder with a file's parts is called."""
    return name + FOLDER_SUFFIX


def unfolded(files: Iterable[tuple[str, Entry]]) -> dict[Named, Entry | None]:
    """The folder with the parts of each of these files, by name and content; None for one that hides none.

    Nothing but name and content decides, so that every installation lays out the same.
    """
    wanted = {(name, entry.id): entry for name, entry in files}
    found = _remembered(list(wanted))
    lacking = {f"{place}/{name}": (name, wanted[name, content]) for place, (name, content) in enumerate(wanted)}
    lacking = {path: one for path, one in lacking.items() if (one[0], one[1].id) not in found}
    kinds = kinds_of({path: entry for path, (_, entry) in lacking.items()}, Rules())
    made: dict[Named, str] = {}
    for path, (name, entry) in lacking.items():
        may_be = kinds[path] in UNFOLDED_KINDS and entry.size <= MOST_BYTES and _fits(name)
        try:
            made[name, entry.id] = _unfold(name, entry.id) if may_be else ""
        except LimitError:
            found[name, entry.id] = ""  # it was not read to its end, so nothing is remembered of it
    if made:
        get_store().sync()
        rows = [UnfoldedContent(name=n, content=c, parts=parts, made=True) for (n, c), parts in made.items()]
        with aside():
            UnfoldedContent.objects.bulk_create(rows, batch_size=_AT_ONCE, ignore_conflicts=True)
    nodes = found | made
    return {key: get_trees().parted(folder_name(key[0]), node) if node else None for key, node in nodes.items()}


def _remembered(keys: list[Named]) -> dict[Named, str]:
    found: dict[Named, str] = {}
    for start in range(0, len(keys), _AT_ONCE):
        some = set(keys[start : start + _AT_ONCE])
        rows = UnfoldedContent.objects.filter(made=True, content__in=[content for _, content in some])
        found.update({(row.name, row.content): row.parts for row in rows if (row.name, row.content) in some})
    return found


def _fits(name: str) -> bool:
    try:
        check_path(folder_name(name))
    except InvalidError:
        return False
    return True


def _unfold(name: str, content: str) -> str:
    """Return the folder node of its parts; empty for a file without parts. Raises ``LimitError``."""
    store, trees = get_store(), get_trees()
    with TemporaryDirectory(dir=get_config().scratch, prefix="unfold-") as folder:
        output = Path(folder, "parts")
        try:
            with as_file(content) as file, reader() as worker:
                worker.unfold(FileAt(name, str(file)), output)
            files = unpacked_files(output.read_bytes())
            for path in files:
                check_path(f"{folder_name(name)}/{path}")
        except (InvalidError, UnreadableError):
            return ""
    infos = {path: store.put(data) for path, data in files.items()}
    entries = {path: Entry(path.rpartition("/")[2], "artifact", info.id, info.size) for path, info in infos.items()}
    return trees.apply(trees.empty, dict(entries))


def folded(shelf: Shelf, name: str, parts: Entry) -> tuple[Entry | None, list[str]]:
    """Return the file that a folder of parts folds to, and notes; None and why if it cannot be folded.

    A full disk or a damaged content is raised: it says nothing of the parts, and the next try may succeed.
    """
    known = UnfoldedContent.objects.filter(name=name, parts=parts.id).first()
    if known is not None:
        return Entry(name, "artifact", known.content, get_store().size(known.content)), known.notes
    try:
        with TemporaryDirectory(dir=get_config().scratch, prefix="fold-") as folder:
            given, output = Path(folder, "parts.zip"), Path(folder, "folded")
            given.write_bytes(packed(Unfolded(_files_of(parts))))
            with reader() as worker:
                notes = list(worker.fold(given, output).notes)
            with output.open("rb") as file:
                info = take_in(shelf, iter(lambda: file.read(1 << 20), b""), None)
    except (InvalidError, UnreadableError, LimitError) as error:
        return None, [error.message]
    with aside():
        row = UnfoldedContent(name=name, content=info.id, parts=parts.id, made=False, notes=notes)
        UnfoldedContent.objects.bulk_create([row], ignore_conflicts=True)
    return Entry(name, "artifact", info.id, info.size), notes


def _files_of(parts: Entry) -> dict[str, bytes]:
    trees, store = get_trees(), get_store()
    entries = dict(trees.files(parts.id))
    if sum(entry.size for entry in entries.values()) > MOST_BYTES:
        raise InvalidError(f"its parts are larger than {MOST_BYTES >> 20} MB", code="fold.size")
    if MANIFEST not in entries:
        raise InvalidError(f"{MANIFEST} is gone, so nothing says how to fold it", code="fold.manifest")
    return {path: store.read(entry.id) for path, entry in entries.items()}


def not_named(parts: Entry) -> dict[str, Entry]:
    """Files among parts that unfolding did not lay there."""
    entries = dict(get_trees().files(parts.id))
    try:
        manifest = read_manifest({MANIFEST: get_store().read(entries[MANIFEST].id)})
    except (InvalidError, KeyError):
        return {path: entry for path, entry in entries.items() if path != MANIFEST}
    laid = {MANIFEST, manifest.frame, *manifest.pieces}
    return {path: entry for path, entry in entries.items() if path not in laid}


def merged(shelf: Shelf, name: str, files: tuple[Entry | None, Entry, Entry]) -> Entry | None:
    """What base, target and source come to by meaning; None where something is to be decided."""
    base, target, source = files
    if base is None:
        return None
    with TemporaryDirectory(dir=get_config().scratch, prefix="merge-") as folder:
        output = Path(folder, "merged")
        with as_file(base.id) as one, as_file(target.id) as two, as_file(source.id) as three, reader() as worker:
            answer = worker.merge(name, (one, two, three), output)
        if not answer.merged:
            return None
        with output.open("rb") as file:
            info = take_in(shelf, iter(lambda: file.read(1 << 20), b""), None)
    return Entry(name, "artifact", info.id, info.size)

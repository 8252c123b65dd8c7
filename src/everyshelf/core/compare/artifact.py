"""Two versions of one artifact: recognise, read, compare as the kind; where that fails as text, then as bytes."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from pathlib import Path

from everyshelf.core.compare.archives import compare_members
from everyshelf.core.compare.dispatch import compare_own, compare_parts, compare_trees
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.orientation import by_records
from everyshelf.core.compare.outlines import compare_outlines
from everyshelf.core.compare.realign import realigned
from everyshelf.core.compare.result import Comparison, as_bytes
from everyshelf.core.compare.texts import compare_texts
from everyshelf.core.compare.uncollected import without_collection
from everyshelf.core.errors import UnreadableError
from everyshelf.core.formats.archives import folder_members
from everyshelf.core.formats.code import without_comments
from everyshelf.core.formats.compressed import bare_name, decompressed, is_compressed
from everyshelf.core.formats.json import as_json, parse_json
from everyshelf.core.formats.text import Decoded, decode, read_alike
from everyshelf.core.kinds.peeking import is_known_whole, is_table, recognise_given, table_of_folder
from everyshelf.core.kinds.reading import parse_tree, recognise_file, shape_tree, table_in_force
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.registry import kind_for
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.outline.model import Effect, Finding
from everyshelf.core.tables.given import Given, given_at
from everyshelf.core.tables.keep import Keep
from everyshelf.core.tables.options import TableOptions

# Raised when the meaning of findings changes, so that cached results of an older reader are not shown.
READER_VERSION = 10
MOST_IN_MEMORY = 200 * 1024 * 1024  # what is no table is held whole
_BEGINNING = 64 * 1024
_MOST_DEPTH = 3  # of archives within archives
_LINE_KINDS = ("script", "report")


@dataclass(frozen=True)
class ArtifactSide:
    """One version: the name it went by, and its bytes or the path of the file that holds them.

    ``beside``: files of the same folder that belong to it, by name: weights a model keeps elsewhere, its metrics.
    """

    name: str
    content: bytes | None = None
    path: Path | None = None
    beside: Mapping[str, Path] = field(default_factory=dict)

    @cached_property
    def data(self) -> bytes:
        """All bytes; read when they are first asked for."""
        if self.content is not None:
            return self.content
        assert self.path is not None
        return self.path.read_bytes()

    @property
    def beginning(self) -> bytes | None:
        """Its first bytes; None of a folder."""
        if self.content is not None or self.path is None or self.is_folder:
            return self.content
        with self.path.open("rb") as file:
            return file.read(_BEGINNING)

    @property
    def given(self) -> Given:
        """The same for a reader of tables."""
        if self.is_folder and self.path is not None:
            return given_at(self.name, self.path)
        return Given(self.name, self.content, self.path)

    @cached_property
    def is_folder(self) -> bool:
        """True for a folder on disk, whose files are one table or are compared one by one."""
        return self.path is not None and self.path.is_dir()


def compare_artifacts(
    before: ArtifactSide,
    after: ArtifactSide,
    options: CompareOptions | None = None,
) -> Comparison:
    """What changed from ``before`` to ``after``; never raises for what the files hold, only for a wrong key."""
    with read_alike(before.beginning, after.beginning):
        return _versions(before, after, options or CompareOptions(), 0)


def _versions(before: ArtifactSide, after: ArtifactSide, options: CompareOptions, depth: int) -> Comparison:
    """As ``compare_artifacts``, for an artifact or a member ``depth`` archives down."""
    rules, kind, keep = options.rules, options.kind, Keep(path=options.rows)
    if before.is_folder or after.is_folder:
        return _folders(before, after, options, keep)
    old, new = (recognise_given(side.given, rules, kind) for side in (before, after))
    if is_table(old) != is_table(new) and old.format == new.format == "json":
        sides_by_record = _by_record(before, after)
        if sides_by_record is not None:
            told = _versions(*sides_by_record, options, depth)
            told.findings.append(_turned_finding("/", by_column_now=is_table(old)))
            return told
    if is_table(old) and is_table(new):
        from everyshelf.core.compare.datasets import compare_datasets, options_of

        found = compare_datasets(before.given, after.given, old, new, options_of(rules, after.name, options.key), keep)
        if isinstance(found, str):
            return compare_as_text(_unpacked(before), _unpacked(after), found, "dataset")
        if found is not None:
            return found
    if old.format == new.format == "sqlite":
        from everyshelf.core.compare.databases import compare_databases
        from everyshelf.core.compare.datasets import check_key_of_table, key_of_table, options_of

        def options_for(table: str) -> TableOptions:
            return options_of(rules, f"{after.name}/{table}", key_of_table(options.key, table), within=after.name)

        told = compare_databases(before.given, after.given, options_for, keep)
        check_key_of_table(options.key, told)
        return told
    largest = max(before.given.size, after.given.size)
    if largest > MOST_IN_MEMORY:
        from everyshelf.core.compare.datasets import same_bytes

        if same_bytes(before.given, after.given):
            return Comparison(new.kind)
        why = f"larger than {MOST_IN_MEMORY >> 20} MB"
        return as_bytes(after.name, before.given.size, after.given.size, why, new.kind)
    with without_collection():
        sides = [_unpacked(side) for side in (before, after)]
        known = [
            found if is_known_whole(side.given) else recognise_file(one.name, one.data, rules, kind)
            for found, side, one in zip((old, new), (before, after), sides, strict=True)
        ]
        result = _compared(sides[0], sides[1], known[0], known[1], rules, depth)
    packed = [one is not side for one, side in zip(sides, (before, after), strict=True)]
    if packed[0] != packed[1]:
        words = ["compressed" if is_packed else "not compressed" for is_packed in packed]
        result.findings.append(
            Finding("changed", "/", "content", "compression", "cosmetic", "compression", words[0], words[1])
        )
    return result


def _by_record(before: ArtifactSide, after: ArtifactSide) -> tuple[ArtifactSide, ArtifactSide] | None:
    """Both sides as records, where one holds them by column; None if it holds something else or is too large."""
    if max(before.given.size, after.given.size) > MOST_IN_MEMORY:
        return None
    try:
        old, new = parse_json(before.data), parse_json(after.data)
        one, other, turned = by_records(old, new)
        if [path for path, _ in turned] != ["/"]:
            return None
        if one is not old:
            return replace(before, content=as_json(one), path=None), after
        return before, replace(after, content=as_json(other), path=None)
    except UnreadableError:
        return None


def _turned_finding(path: str, *, by_column_now: bool) -> Finding:
    """The layout of a whole table is cosmetic; inside a file its readers depend on it."""
    words = ("by record", "by column") if by_column_now else ("by column", "by record")
    effect: Effect = "cosmetic" if path == "/" else "alters"
    return Finding("changed", path, "list", path.rpartition("/")[2] or "records", effect, "form", *words)


def _folders(before: ArtifactSide, after: ArtifactSide, options: CompareOptions, keep: Keep) -> Comparison:
    """Folders: as one table where all their files are parts of one, also against a table in one file; else by file."""
    from everyshelf.core.compare.datasets import compare_datasets, options_of

    sides, rules = (before.given, after.given), options.rules
    found = [
        table_of_folder(g) if g.files else recognise_given(g, rules, options.kind) for g in sides if g.files or g.size
    ]
    if len(found) == 2 and all(one is not None and is_table(one) for one in found):
        old, new = (one for one in found if one is not None)
        told = compare_datasets(*sides, old, new, options_of(rules, after.name, options.key), keep)
        if isinstance(told, Comparison):
            return told
    if not (before.is_folder and after.is_folder) or before.path is None or after.path is None:
        why = "a folder that is no table can only be compared with a folder"
        return as_bytes(after.name, before.given.size, after.given.size, why)

    def inside(name: str, was: bytes, now: bytes) -> Comparison:
        return _versions(ArtifactSide(name, was), ArtifactSide(name, now), CompareOptions(rules), 1)

    try:
        return compare_members(folder_members(before.path), folder_members(after.path), inside)
    except UnreadableError as error:
        return as_bytes(after.name, before.given.size, after.given.size, str(error))


def _unpacked(side: ArtifactSide) -> ArtifactSide:
    """The side without its compression; itself where there is none, or none that can be taken off."""
    if not is_compressed(side.data):
        return side
    try:
        return ArtifactSide(bare_name(side.name), decompressed(side.data), beside=side.beside)
    except UnreadableError:
        return side


def _compared(
    before: ArtifactSide, after: ArtifactSide, old: Recognition, new: Recognition, rules: Rules, depth: int
) -> Comparison:
    if before.data == after.data and not (new.kind == "model" and (before.beside or after.beside)):
        return Comparison(new.kind)
    note = new.note or old.note
    if old.kind != new.kind and old.format == new.format and "settings" in (old.kind, new.kind):
        # One version lost what tells its kind (the last wire of a graph): it is still the same artifact.
        kind = new.kind if old.kind == "settings" else old.kind
        if kind_for(kind).realigns:
            old, new = replace(old, kind=kind), replace(new, kind=kind)
    if old.kind != new.kind:
        note = f"it was read as {old.kind} before and as {new.kind} after"
    result = _as_kind(before, after, old, new, rules, depth)
    result.note = "; ".join(n for n in (note, result.note) if n)
    if not result.findings and not result.note:
        result.note = "written differently, means the same"
    return result


def _as_kind(
    before: ArtifactSide,
    after: ArtifactSide,
    old: Recognition,
    new: Recognition,
    rules: Rules,
    depth: int,
) -> Comparison:
    def inside(name: str, was: bytes, now: bytes) -> Comparison:
        if depth >= _MOST_DEPTH:
            return as_bytes(name, len(was), len(now), f"archives within archives over {_MOST_DEPTH} deep")
        return _versions(ArtifactSide(name, was), ArtifactSide(name, now), CompareOptions(), depth + 1)

    try:
        table = table_in_force(new, rules, after.name)
        both = (before.beside, after.beside)
        own = compare_own((before.data, after.data), (old, new), table, inside, both)
        return own if own is not None else _as_outlines(before, after, old, new, rules)
    except UnreadableError as error:
        return _as_text(before, after, new, str(error))
    except RecursionError:
        return _as_text(before, after, new, "nested too deeply for its kind")
    except Exception as error:
        # Kinds come from other packages too; a mistake in a reader must not cost the answer.
        return _as_text(before, after, new, reader_failed(error))


def reader_failed(error: Exception) -> str:
    """What is said of a mistake in a reader: its sort and the first words of its message."""
    said = " ".join(str(error).split())[:80]
    return f"its reader failed ({type(error).__name__}{': ' + said if said else ''})"


def _as_outlines(
    before: ArtifactSide, after: ArtifactSide, old: Recognition, new: Recognition, rules: Rules
) -> Comparison:
    """Both sides under the table of the newer one; each as the kind it was recognised as."""
    trees = [parse_tree(side.data, found) for side, found in ((before, old), (after, new))]
    regenerated = 0
    trees[0], trees[1], turned = by_records(trees[0], trees[1])
    if kind_for(new.kind).realigns and old.kind == new.kind:
        trees[1], regenerated = realigned(*trees)
    table = table_in_force(new, rules, after.name)
    same_kind = old.kind == new.kind
    if same_kind and (findings := compare_trees(new.kind, trees[0], trees[1], table)) is not None:
        return Comparison(new.kind, findings)
    one, other = shape_tree(trees[0], old, table_in_force(old, rules, before.name)), shape_tree(trees[1], new, table)
    if same_kind and (findings := compare_parts(new.kind, one, other, table)) is not None:
        return Comparison(new.kind, findings)
    findings, identity = compare_outlines(one, other, table)
    findings += [_turned_finding(path, by_column_now=is_newer) for path, is_newer in turned]
    if regenerated:
        detail = f"ids regenerated for {regenerated} parts of equal content"
        findings.append(Finding("changed", "/", new.kind, "ids", "cosmetic", "id", detail=detail))
    return Comparison(new.kind, findings, identity=identity)


def _as_text(before: ArtifactSide, after: ArtifactSide, found: Recognition, why: str) -> Comparison:
    if before.is_folder or after.is_folder:
        return as_bytes(after.name, before.given.size, after.given.size, why, found.kind)
    try:
        old, new = decode(before.data), decode(after.data)
    except UnreadableError:
        return as_bytes(after.name, len(before.data), len(after.data), why, found.kind)
    findings, lines = compare_texts(old.lines(), new.lines(), _without_comments(old, new, found))
    if why:  # what was not read as its kind is not judged
        findings = [f if f.effect == "cosmetic" else replace(f, effect=None) for f in findings]
    for name, was, now in (("encoding", old.encoding, new.encoding), ("line ends", old.newline, new.newline)):
        if was != now:
            findings.append(Finding("changed", "/", "text", name, "cosmetic", name, repr(was), repr(now)))
    # Scripts and reports are read by lines in earnest; for other kinds the note says why they were not read as such.
    by_lines = found.kind in _LINE_KINDS and found.format not in kind_for(found.kind).readers and not why
    note = "" if by_lines else f"compared as text, effects not judged: {why}" if why else "compared as text"
    return Comparison(found.kind, findings, read_as="text", note=note, lines=lines)


def _without_comments(old: Decoded, new: Decoded, found: Recognition) -> tuple[list[str], list[str]] | None:
    if found.kind != "script":
        return None
    one, other = (without_comments("\n".join(side.lines()), found.format) for side in (old, new))
    return (one, other) if one is not None and other is not None else None


def compare_as_text(before: ArtifactSide, after: ArtifactSide, why: str, kind: str = "opaque") -> Comparison:
    """By lines, or as bytes, without an attempt to read either side as its kind."""
    return _as_text(before, after, Recognition(kind), why)

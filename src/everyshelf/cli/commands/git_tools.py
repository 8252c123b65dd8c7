"""``git-tools`` and ``git-filter``: tools for plain Git repositories."""

from __future__ import annotations

import os
import shlex
import shutil
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.clones import fill_notes, shelf_of_clone
from everyshelf.cli.options import Commands, json_option

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.gitside.plain.merging import DriverMerge
    from everyshelf.gitside.plain.setup import Installed, Scope

_SECONDS = 600.0
_CONFLICTS = 10
_NOTHING = os.devnull
_FILE = click.Path(path_type=Path)

_everywhere = click.option(
    "--global", "everywhere", is_flag=True, help="All repositories of yours, not only the one you are in."
)


@click.group("git-tools", cls=Commands)
def git_tools() -> None:
    """Make git diff, log, merge and rebase compare and merge by meaning. Needs no service."""


@git_tools.command("install")
@_everywhere
@click.option("--kind", "kinds", multiple=True, help="Only files of this kind; may be repeated; default: all kinds.")
@click.option(
    "--notes", is_flag=True, help="In a clone of a shelf: real bytes in the folder, content notes in commits."
)
@click.option("--check", is_flag=True, help="Show what is set; change nothing. Exits with 1 if it cannot work.")
@json_option
def install(everywhere: bool, kinds: tuple[str, ...], notes: bool, check: bool, as_json: bool) -> None:
    """Write the settings and attributes that make Git ask Every Shelf."""
    from everyshelf.gitside.plain import setup
    from everyshelf.gitside.plain.attributes import PATTERNS

    scope = setup.scope_of(Path.cwd(), everywhere=everywhere)
    if check:
        found = setup.look(scope)
        _show(found, as_json)
        if found.broken:
            sys.exit(1)
        return
    if unknown := [kind for kind in kinds if kind not in PATTERNS]:
        raise click.UsageError(f"{unknown[0]!r} is not a kind. The kinds are {', '.join(sorted(PATTERNS))}.")
    if notes and everywhere:
        raise click.UsageError("--notes is for one clone of a shelf; leave --global out")
    if notes:
        shelf_of_clone(Path.cwd())
    found = setup.install(scope, _program(), kinds or tuple(PATTERNS), filters=notes)
    if notes:
        _fill(scope)
    _show(found, as_json)


def _program() -> str:
    """The command as Git is to call it: whole, for Git may run where PATH is another."""
    found = shutil.which("everyshelf") or shutil.which("everyshelf", path=str(Path(sys.executable).parent))
    if found is None:
        raise click.ClickException("the command everyshelf is not on PATH. Install Every Shelf, then try again.")
    return str(Path(found).absolute())


def _fill(scope: Scope) -> None:
    from everyshelf.gitside.plain.emptying import files_of_index, is_note_of, tell_git

    folder = scope.folder or Path.cwd()
    shelf, _ = shelf_of_clone(folder)
    remembered = _remembered(folder)
    blobs = files_of_index(scope)
    filled = []
    for note in fill_notes(shelf, folder):
        remembered.remember(note.sha256, "note")
        if is_note_of(blobs.get(note.path, ""), note.path, note.sha256, note.size):
            filled.append(note.path)
    tell_git(scope, filled)


def _show(found: Installed, as_json: bool) -> None:
    if as_json:
        terminal.print_json(
            {
                "global": found.scope.folder is None,
                "settings": found.settings,
                "attributes": str(found.scope.attributes),
                "patterns": list(found.patterns),
                "left": found.left,
                "notes": found.filters,
                "problems": list(found.broken),
            }
        )
        return
    where = str(found.scope.folder) if found.scope.folder is not None else "all repositories of yours"
    if not found.settings and not found.patterns and not found.filters:
        terminal.say(f"Nothing is set for {terminal.bold(where)}.")
        terminal.next_step("everyshelf git-tools install")
        return
    count = terminal.count(len(found.patterns), "file pattern")
    terminal.say(f"Git compares and merges by meaning in {terminal.bold(where)}: {count}.")
    terminal.paragraph(terminal.dim(" ".join(found.patterns)), indent=2)
    for pattern, said in found.left.items():
        terminal.say(f"  {pattern} is left as it is: .gitattributes says {said}")
    if found.filters:
        terminal.say("  Content notes become files here, and large files content notes in commits.")
    for name, value in sorted(found.settings.items()):
        terminal.say(terminal.line((2, terminal.dim(name)), (32, value)))
    terminal.say(terminal.line((2, terminal.dim("attributes")), (32, str(found.scope.attributes))))
    for problem in found.broken:
        terminal.say(f"  {terminal.stops('breaks')} {problem}. Write it again: everyshelf git-tools install")


@git_tools.command("uninstall")
@_everywhere
@json_option
def uninstall(everywhere: bool, as_json: bool) -> None:
    """Remove all that install wrote; files that were content notes become notes again."""
    from everyshelf.gitside.plain import emptying, setup

    scope = setup.scope_of(Path.cwd(), everywhere=everywhere)
    emptied: list[str] = []
    if scope.folder is not None and setup.look(scope).filters:
        emptied = emptying.put_notes_back(scope, _remembered(scope.folder))
    gone = setup.uninstall(scope)
    if emptied:
        emptying.tell_git(scope, emptied)
        gone.append(f"the bytes of {terminal.count(len(emptied), 'file')}, content notes again")
    if as_json:
        terminal.print_json({"removed": gone})
        return
    terminal.say(f"Removed: {'; '.join(gone)}." if gone else "Nothing was set.")


@git_tools.command("compare", context_settings={"ignore_unknown_options": True})
@click.argument("path")
@click.argument("given", nargs=-1)
def compare(path: str, given: tuple[str, ...]) -> None:
    """Git calls this for git diff: PATH, then old file, id and mode, and the same of the new file."""
    from everyshelf.gitside.plain.setup import own_git

    if len(given) < 6:
        terminal.say(f"{terminal.bold(path)} has conflicts to settle.")
        return
    (old, _, old_mode), (new, _, new_mode), more = given[:3], given[3:6], given[6:]
    name = more[0] if more else path
    if own_git(None, "config", "--get-colorbool", "color.diff", _paged(), fine=(0, 1)).strip() == "true":
        click.get_current_context().color = True
    moved = f" {terminal.dim('was')} {path}" if more else ""
    terminal.say(f"{terminal.bold(name)}{moved}")
    if old_mode != new_mode and "." not in (old_mode, new_mode):
        terminal.say(f"  mode {old_mode} → {new_mode}")
    if _NOTHING in (old, new):
        _say_one(name, Path(new if old == _NOTHING else old), added=old == _NOTHING)
        return
    _say_compared(path, name, Path(old), Path(new))


def _paged() -> str:
    return "true" if sys.stdout.isatty() or os.environ.get("GIT_PAGER_IN_USE") == "true" else "false"


def _say_one(name: str, file: Path, *, added: bool) -> None:
    """A file that is on one side only."""
    from everyshelf.core.reading.messages import FileAt
    from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker

    worker = Worker(deadline_seconds=WHOLE_SECONDS)
    try:
        found = worker.outline(FileAt(name, str(file)), rules=_rules_text())
    finally:
        worker.close()
    state = "added" if added else "removed"
    terminal.say(f"  {terminal.tone(state, terminal.GLYPHS[state])} {state}: {found.kind}, {terminal.size(found.size)}")


def _say_compared(path: str, name: str, old: Path, new: Path) -> None:
    from everyshelf.cli.commands.files import print_findings
    from everyshelf.core.compare.options import CompareOptions
    from everyshelf.core.errors import EveryShelfError
    from everyshelf.core.kinds.rules import parse_rules
    from everyshelf.core.reading.messages import FileAt
    from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker

    worker = Worker(deadline_seconds=WHOLE_SECONDS)
    try:
        options = CompareOptions(parse_rules(_rules_text()))
        found = worker.compare(FileAt(path, str(old)), FileAt(name, str(new)), options)
    except EveryShelfError as error:
        terminal.say(f"  {error.message}; these are its lines:")
        sys.stdout.flush()
        subprocess.run(["git", "diff", "--no-index", "--no-ext-diff", "--no-textconv", str(old), str(new)], check=False)
        return
    finally:
        worker.close()
    print_findings(found, Path(path).name, Path(name).name)
    if found.equal:
        terminal.say(terminal.dim("  Only its bytes differ. See them: git diff --no-ext-diff"))


@git_tools.command("text")
@click.argument("file", type=_FILE)
def text(file: Path) -> None:
    """Git calls this for git log -p: write FILE as lines that can be read."""
    from everyshelf.core.reading.messages import FileAt
    from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker
    from everyshelf.gitside.plain.texts import lines_of

    worker = Worker(deadline_seconds=WHOLE_SECONDS)
    try:
        found = worker.outline(FileAt(file.name, str(file)), rules=_rules_text())
    finally:
        worker.close()
    for line in lines_of(file, found):
        terminal.say(line)


@git_tools.command("merge")
@click.argument("base", type=_FILE)
@click.argument("target", type=_FILE)
@click.argument("source", type=_FILE)
@click.argument("marker", type=int)
@click.argument("path")
def merge(base: Path, target: Path, source: Path, marker: int, path: str) -> None:
    """Git calls this to merge: the result is written to TARGET; exits with 1 if conflicts are left."""
    from everyshelf.core.reading.worker import Worker
    from everyshelf.gitside.plain.merging import merge_files_of_git

    worker = Worker(deadline_seconds=_SECONDS)
    try:
        found = merge_files_of_git(
            worker, path, (base, target, source), marker=marker, rules=_rules_text(), top=Path.cwd()
        )
    finally:
        worker.close()
    _say_merged(path, found)
    if not found.clean:
        sys.exit(1)


def _say_merged(path: str, found: DriverMerge) -> None:
    """On stderr, where Git's own lines about merging are read."""
    if found.failed:
        click.echo(f"{path}: {found.failed}; merged by its lines", err=True)
    if found.clean:
        return
    count = terminal.count(len(found.conflicts) or 1, "conflict")
    click.echo(f"{path}: {count} to settle, read as {found.read_as}", err=True)
    for conflict in found.conflicts[:_CONFLICTS]:
        click.echo(f"  {conflict.why}", err=True)
    if len(found.conflicts) > _CONFLICTS:
        click.echo(f"  … and {len(found.conflicts) - _CONFLICTS} more", err=True)
    if found.marked:
        click.echo(f"  Settle what is between the marks, then: git add {shlex.quote(path)}", err=True)
    elif found.beside is not None:
        beside = os.path.relpath(found.beside)
        click.echo(f"  {path} is as in the target; the source is beside it: {beside}", err=True)
        click.echo(f"  Put the right one in place, remove the other, then: git add {shlex.quote(path)}", err=True)


def _rules_text() -> str:
    """The rules of the repository: Git calls us in its top folder."""
    from everyshelf.core.errors import EveryShelfError
    from everyshelf.core.kinds.rules import parse_rules

    file = Path("shelf.toml")
    if not file.is_file():
        return ""
    try:
        said = file.read_text(encoding="utf-8")
        parse_rules(said)
    except (EveryShelfError, UnicodeDecodeError) as error:
        click.echo(f"shelf.toml is not used: {getattr(error, 'message', error)}", err=True)
        return ""
    return said


class _ClonedShelf:
    """The shelf a clone came from, asked only when a file needs it. Raises ``EveryShelfError`` where it cannot be."""

    def __init__(self) -> None:
        self._shelf: ShelfClient | None = None

    @contextmanager
    def _asked(self) -> Iterator[ShelfClient]:
        from everyshelf.client.errors import ClientError
        from everyshelf.core.errors import EveryShelfError

        try:
            if self._shelf is None:
                self._shelf, _ = shelf_of_clone(Path.cwd())
            yield self._shelf
        except click.ClickException as error:
            raise EveryShelfError(error.format_message()) from error
        except ClientError as error:
            raise EveryShelfError(error.message, hint=error.hint, code=error.code) from error

    def download_content(self, identity: str, target: Path) -> None:
        with self._asked() as shelf:
            shelf.download_content(identity, target)

    def upload(self, source: Path) -> object:
        with self._asked() as shelf:
            return shelf.upload(source)


@click.command("git-filter")
def git_filter() -> None:
    """Give Git real bytes for content notes, and notes for large files, while Git asks.

    Git starts and ends it, by its protocol for filters that keep running. `everyshelf
    git-tools install --notes` sets it up in a clone of a shelf.
    """
    from everyshelf.gitside.plain.filtering import Filter
    from everyshelf.gitside.settings import MappingSettings

    def say(line: str) -> None:
        click.echo(line, err=True)

    worker = Filter(_ClonedShelf(), _remembered(Path.cwd()), say, MappingSettings())
    worker.serve(sys.stdin.buffer, sys.stdout.buffer)


def _remembered(folder: Path) -> Any:
    from everyshelf.gitside.plain.filtering import Remembered
    from everyshelf.gitside.plain.setup import own_git

    found = own_git(folder, "rev-parse", "--path-format=absolute", "--git-common-dir").strip()
    return Remembered(Path(found, "everyshelf"))

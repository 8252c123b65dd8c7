"""``origins``: who last set each part or line of an artifact."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.csv_output import csv_text
from everyshelf.cli.options import at_option, shelf_options
from everyshelf.cli.session import default_ref, open_shelf

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.core.answers.origins import FieldForm, FormsAnswer, OriginCommit, OriginsAnswer, PartForm

_WORDS = {"added": "added", "changed": "changed", "moved": "moved", "looks": "cosmetic", "removed": "removed"}
_MOST_FIELDS = 12
_STATES = {**_WORDS, "looks": "moved"}


@click.command("origins")
@click.argument("artifact", shell_complete=completing.artifacts)
@click.option("--part", metavar="PART", help="Show what each commit did to this part or field: a path or a label.")
@click.option("--line", type=click.IntRange(1), metavar="N", help="Show what each commit did to line N.")
@click.option("--row", metavar="KEY", help="Show what each commit did to the row with this key; several cells: A,B.")
@click.option("--column", metavar="C", help="With --row: only the cell in column C.")
@click.option("--table", metavar="T", help="With --row: the table of a database.")
@click.option("--lines", "by_lines", is_flag=True, help="List lines, also where the artifact has parts.")
@click.option("--removed", is_flag=True, help="List removed parts: when, and by whom.")
@click.option("--cosmetic", is_flag=True, help="Let cosmetic changes count.")
@click.option("--by", metavar="PERSON", help="Only what this person set.")
@at_option
@click.option("--csv", "as_csv", is_flag=True, help="Print a table for other programs.")
@shelf_options
def origins(
    artifact: str,
    part: str | None,
    line: int | None,
    row: str | None,
    column: str | None,
    table: str | None,
    by_lines: bool,
    removed: bool,
    cosmetic: bool,
    by: str | None,
    ref: str | None,
    as_csv: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show who last set each part or line of ARTIFACT, when, and why."""
    shelf, desk = open_shelf(shelf_key, address)
    ref, path = ref or default_ref(desk), desk.as_path(artifact) if desk else artifact
    named = {"part": part, "line": line, "row": row}
    if sum(value is not None for value in named.values()) > 1:
        raise click.UsageError("--part, --line and --row name different things; give one")
    if row is None and (column or table):
        raise click.UsageError("--column and --table go with --row KEY")
    if part is not None or line is not None or row is not None:
        of = {name: value for name, value in {**named, "column": column, "table": table}.items() if value is not None}
        show_forms(shelf, path, ref, as_json, **of)
        return
    found = shelf.origins(path, ref, form="lines" if by_lines else None)
    if as_json:
        terminal.print_json(found)
    elif as_csv:
        _print_csv([row for row in _rows(shelf, found, ref, cosmetic) if by in (None, row.commit.author)])
    elif removed:
        _show_removed(found)
    elif found.form == "rows":
        _show_tables(found)
    else:
        _show(found, [row for row in _rows(shelf, found, ref, cosmetic) if by in (None, row.commit.author)])


def _print_csv(rows: list[_Row]) -> None:
    """Print a line for each part, field or line."""
    heads = ["part", "is", "author", "recorded", "version", "commit", "summary"]
    table = []
    for row in rows:
        commit = row.commit
        of_commit = commit.author, commit.recorded.isoformat(), commit.version, commit.commit, commit.summary
        table.append([row.path, row.what, *of_commit])
    click.echo(csv_text(heads, table), nl=False)


def show_forms(shelf: ShelfClient, path: str, ref: str | None, as_json: bool, **of: Any) -> None:
    """Show what each commit did to a part, a line or a row."""
    forms = shelf.forms(path, ref, **of)
    if as_json:
        terminal.print_json(forms)
    else:
        _show_forms(forms)


class _Row(NamedTuple):
    """A part, a field or lines, what it is called or says, and the commit that set it."""

    path: str
    what: str
    depth: int
    commit: OriginCommit


def _rows(shelf: ShelfClient, found: OriginsAnswer, ref: str | None, cosmetic: bool) -> Iterator[_Row]:
    if found.form == "lines":
        yield from _line_rows(shelf, found, ref, cosmetic)
    elif found.form == "whole":
        newest = max(found.commits.values(), key=lambda commit: commit.recorded)
        yield _Row("/", "the whole file", 0, newest)
    for part in found.parts:
        of_part = found.commits[(cosmetic and part.looks) or part.set]
        yield _Row(part.path, part.label or part.type, part.depth, of_part)
        for field in part.fields:
            of_field = found.commits[(cosmetic and field.looks) or field.set]
            if of_field.commit != part.own:  # what was set later than the part itself
                yield _Row(f"{part.path.rstrip('/')}/{field.name}", field.name, part.depth + 1, of_field)


def _line_rows(shelf: ShelfClient, found: OriginsAnswer, ref: str | None, cosmetic: bool) -> Iterator[_Row]:
    text = shelf.text(found.path, ref)["text"].splitlines()
    for run in found.lines:
        commit = found.commits[(cosmetic and run.looks) or run.set]
        for number in range(run.first, run.first + run.count):
            yield _Row(f"/line:{number}", text[number - 1] if number <= len(text) else "", 0, commit)


def _show(found: OriginsAnswer, rows: list[_Row]) -> None:
    through = [terminal.count(found.versions, "version")]
    through += [terminal.count(found.moves, "move")] if found.moves else []
    through += [terminal.count(found.merges, "merge")] if found.merges else []
    people = {row.commit.author for row in rows}
    noun = {"parts": "part", "lines": "line", "whole": "file"}[found.form]
    number = len(rows) if found.form != "parts" else sum(1 for row in rows if "/" in row.path)
    said = f"{found.path}: {terminal.count(number, noun)} by {terminal.count(len(people), 'person', 'people')}"
    terminal.say(terminal.bold(said) + f", through {' and '.join(through)}.")
    if found.note:
        terminal.say(f"  {found.note}")
    wide = found.form == "lines"
    columns = (
        terminal.Column(2, text=True) if not wide else terminal.Column(2, right=True),
        *((terminal.Column(9, text=True),) if wide else ()),
        terminal.Column(40 if not wide else 62),
        terminal.Column(52 if not wide else 74),
        terminal.Column(66 if not wide else 88),
        terminal.Column(72 if not wide else 94, text=True),
    )
    listing = terminal.Listing(columns)
    before = ""
    for row in rows:
        commit = row.commit
        again = wide and commit.commit == before
        cells = ("", "", "", "") if again else _cells(commit)
        if wide:
            listing.row((row.path.rpartition(":")[2], terminal.dim), row.what.rstrip() or " ", *cells)
        else:
            listing.row("  " * row.depth + row.what, *cells)
        before = commit.commit
    listing.show()
    if found.removed:
        last = found.removed[0]
        terminal.say(f"{terminal.count(len(found.removed), 'removed part')}, last {last.label or last.path}.")
        terminal.next_step(f"everyshelf origins {shlex.quote(found.path)} --removed")


def _show_tables(found: OriginsAnswer) -> None:
    columns = terminal.count(len(found.parts), "column")
    terminal.say(terminal.bold(f"{found.path}: {columns}") + f", through {terminal.count(found.versions, 'version')}.")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND, text=True),
            terminal.Column(40),
            terminal.Column(52),
            terminal.Column(66),
            terminal.Column(72, text=True),
        )
    )
    for part in found.parts:
        listing.row(("column", terminal.dim), part.label, *_cells(found.commits[part.set]))
    for rows in found.rows:
        counts = [("added", rows.added), ("changed", rows.changed), ("removed", rows.removed)]
        told = ", ".join(f"{number} {word}" for word, number in counts if number)
        told = "all of it" if rows.whole else told
        name = f"{rows.table}: {told}" if rows.table else told
        listing.row(("rows", terminal.dim), name, *_cells(found.commits[rows.set]))
    listing.show()
    terminal.next_step(f"everyshelf origins {shlex.quote(found.path)} --row KEY")


def _cells(commit: OriginCommit) -> tuple[str, str, str, str]:
    number = f"v{commit.version}" if commit.version else ""
    return commit.author, terminal.when(commit.recorded), number, commit.summary


def _show_removed(found: OriginsAnswer) -> None:
    said = f"{terminal.count(len(found.removed), 'removed part')} of {found.path}"
    terminal.say(terminal.bold(said) + ", newest first.")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(30, text=True),
            terminal.Column(50),
            terminal.Column(62),
            terminal.Column(76, text=True),
        )
    )
    for part in found.removed:
        commit = found.commits[part.removed]
        cells = part.label, commit.author, terminal.when(commit.recorded), commit.summary
        listing.row(("removed", lambda text: terminal.tone("removed", text)), part.type, *cells)
    listing.show()


def _show_forms(found: FormsAnswer) -> None:
    name = found.part if found.type == "line" else f"{found.label or found.type}, {found.part}"
    name = found.label if found.type == "row" else name
    terminal.say(terminal.bold(f"{terminal.count(len(found.forms), 'commit')} touched {name}") + ", newest first.")
    for form in found.forms:
        commit = form.commit
        number = f"v{commit.version}" if commit.version else ""
        action = terminal.tone(_STATES[form.action], f"{_WORDS[form.action]:9}")
        when = terminal.when(commit.recorded)
        terminal.say(f"  {action} {terminal.bold(f'{number:5}')}{commit.commit[:8]}  {when}  {commit.author}")
        terminal.paragraph(f"“{commit.summary}”" + _beside(commit), indent=12)
        for line in _told(form):
            terminal.paragraph(line, indent=12)


def _beside(commit: OriginCommit) -> str:
    tasks = "".join(f", {task}" for task in commit.tasks)
    others = f"; also touched {terminal.count(commit.others, 'other artifact')}" if commit.others else ""
    return f"{tasks}{', a merge' if commit.merge else ''}{others}"


def _told(form: PartForm) -> Iterable[str]:
    yield from map(_field, form.fields[:_MOST_FIELDS])
    if len(form.fields) > _MOST_FIELDS:
        yield f"and {len(form.fields) - _MOST_FIELDS} more"
    if form.within:
        yield f"{terminal.count(form.within, 'part')} in it changed"
    if form.before is not None and form.before != form.after:
        yield terminal.tone("removed", f"before: {form.before.strip()}")
    if form.after is not None:
        yield terminal.tone("added", f"after:  {form.after.strip()}")


def _field(field: FieldForm) -> str:
    name = field.name or "name"
    if field.touch == "removed":
        return f"{name}: removed, was {field.before}"
    looks = " (cosmetic)" if field.touch == "looks" else ""
    return f"{name}: {field.after}{looks}" if field.before is None else f"{name}: {field.before} → {field.after}{looks}"

"""``rows``: the rows of a table of any size, sorted by columns and with conditions on them."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import TYPE_CHECKING

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.csv_output import csv_text
from everyshelf.cli.options import at_option, shelf_options
from everyshelf.cli.session import default_ref, open_shelf
from everyshelf.cli.texts import cut, fitting, line_of, places_for

if TYPE_CHECKING:
    from everyshelf.core.answers.tables import TableRows

_SHOWN, _PAGE = 20, 1000
_NUMBERS = ("integer", "decimal", "unsigned")


@click.command("rows")
@click.argument("artifact", shell_complete=completing.artifacts)
@at_option
@click.option("--version", type=click.IntRange(1), metavar="N", help="Read this version of the artifact.")
@click.option("--table", default="", metavar="T", help="Table of a database.")
@click.option("--start", type=click.IntRange(1), default=1, show_default=True, metavar="N", help="First row to show.")
@click.option("--count", type=click.IntRange(1), metavar="N", help=f"How many rows; default {_SHOWN}, with --csv all.")
@click.option(
    "--sort", multiple=True, metavar="COLUMN", help="Sort by COLUMN; -COLUMN the other way round. May be repeated."
)
@click.option(
    "--where", multiple=True, metavar="CONDITION", help="Only rows such as 'fare over 10'. May be repeated: all hold."
)
@click.option("--csv", "as_csv", is_flag=True, help="Print a table for other programs.")
@shelf_options
def rows(
    artifact: str,
    ref: str | None,
    version: int | None,
    table: str,
    start: int,
    count: int | None,
    sort: tuple[str, ...],
    where: tuple[str, ...],
    as_csv: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show rows of ARTIFACT, a table of any size.

    A CONDITION is COLUMN TEST VALUE. Tests: is, is not, contains, over, under, is empty, is not empty.
    """
    shelf, desk = open_shelf(shelf_key, address)
    ref, path = ref or default_ref(desk), desk.as_path(artifact) if desk else artifact
    wanted = count or (_PAGE if as_csv else _SHOWN)
    if as_csv and version is None:
        version = shelf.artifact(path, ref).version  # all pages of one version, whatever is committed meanwhile

    def page(first: int, most: int) -> TableRows:
        return shelf.rows(path, ref, version, table=table, start=first, count=most, sort=sort, where=where)

    found = page(start - 1, min(wanted, _PAGE))
    if as_json:
        terminal.print_json(found)
    elif as_csv:
        left = found.total if count is None else min(found.total, start - 1 + count)
        click.echo(csv_text([column.name for column in found.columns], found.rows), nl=False)
        for first in range(start - 1 + len(found.rows), left, _PAGE):
            text = csv_text([], page(first, min(_PAGE, left - first)).rows)
            click.echo(text.partition("\n")[2], nl=False)
    else:
        _show(path, found, where)
        if found.start + len(found.rows) < found.total:
            given = [
                f"--{name} {shlex.quote(value)}"
                for name, values in (("sort", sort), ("where", where))
                for value in values
            ]
            given += [f"--at {ref}"] if ref else []
            given += [f"--table {shlex.quote(table)}"] if table else []
            step = f"everyshelf rows {shlex.quote(path)} --start {found.start + len(found.rows) + 1}"
            terminal.next_step(" ".join([step, *given]))


def _show(path: str, found: TableRows, where: tuple[str, ...]) -> None:
    of = f" of {found.row_count:,}" if where else ""
    shown = f", {found.start + 1:,} to {found.start + len(found.rows):,}" if len(found.rows) < found.total else ""
    terminal.say(f"{terminal.bold(f'{path}: {found.total:,}{of} rows')}{shown}")
    if not found.rows:
        terminal.say(f"  {terminal.dim('no row' if found.total == 0 else 'no row this far down')}")
        return
    wide = [max(len(text) for text in texts) for texts in _columns(found)]
    places = places_for(wide, 12)
    head = [column.name for column in found.columns]
    terminal.say(terminal.dim(_line("row", [cut(head[i]) for i in places], places, wide, found)))
    for number, row in zip(found.numbers, found.rows, strict=True):
        terminal.say(_line(f"{number:,}", [cut(row[i]) for i in places], places, wide, found))
    if len(places) < len(head):
        left = fitting([name for i, name in enumerate(head) if i not in places])
        terminal.say("  " + terminal.dim(f"not shown: {left}"))


def _columns(found: TableRows) -> Iterator[list[str]]:
    for place, column in enumerate(found.columns):
        yield [cut(column.name), *(cut(row[place]) for row in found.rows)]


def _line(number: str, cells: list[str], places: list[int], wide: list[int], found: TableRows) -> str:
    numeric = [found.columns[place].type.startswith(_NUMBERS) for place in places]
    return f"{number:>10}  {line_of(cells, [wide[place] for place in places], numeric)}".rstrip()

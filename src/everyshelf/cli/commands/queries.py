"""``query``: SQL over any versions of a shelf's tables, and over the shelf itself."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.csv_output import csv_text
from everyshelf.cli.options import at_option, shelf_options
from everyshelf.cli.session import default_ref, open_shelf
from everyshelf.cli.texts import fitting, told_in_columns

_SHOWN, _MOST = 20, 1000


@click.command("query")
@click.argument("sql", required=False)
@click.option(
    "--saved", metavar="ARTIFACT", shell_complete=completing.artifacts, help="Run a query saved on the shelf."
)
@click.option(
    "--from", "file", type=click.Path(dir_okay=False, exists=True, path_type=Path), help="Read the query from a file."
)
@at_option
@click.option(
    "--count",
    type=click.IntRange(1, _MOST),
    metavar="N",
    help=f"How many rows to show; default {_SHOWN}, at most {_MOST}.",
)
@click.option("--csv", "as_csv", is_flag=True, help="Print all rows as a table for other programs.")
@click.option(
    "--output", type=click.Path(dir_okay=False, path_type=Path), help="Write all rows to a .parquet or .arrow file."
)
@shelf_options
def query(
    sql: str | None,
    saved: str | None,
    file: Path | None,
    ref: str | None,
    count: int | None,
    as_csv: bool,
    output: Path | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Run SQL, one SELECT, over versions of tables.

    Tables are artifacts in quotes: 'data/fares.csv', 'data/fares.csv@tag:spring-1', of a database 'FILE#TABLE'. Those
    without a ref are meant at --at. Lists of the shelf itself: commits, artifacts, versions, findings, runs.
    """
    if sum(given is not None for given in (sql, saved, file)) != 1:
        raise click.UsageError("give the query, --saved ARTIFACT or --from FILE")
    shelf, desk = open_shelf(shelf_key, address)
    ref = ref or default_ref(desk)
    asked = sql or ""
    if file is not None:
        asked = file.read_text()
    elif saved is not None:
        asked = shelf.read(desk.as_path(saved) if desk else saved, ref).decode("utf-8", "replace")
    if output is not None:
        form = {".parquet": "parquet", ".arrow": "arrow", ".arrows": "arrow"}.get(output.suffix)
        if form is None:
            raise click.UsageError("end the name of the file with .parquet or .arrow")
        data = shelf.query_bytes(asked, ref, form=form)
        output.write_bytes(data)
        terminal.say(terminal.bold(f"Wrote {output}") + f", {terminal.size(len(data))}.")
        return
    if as_csv:
        _print_csv(shelf.query_table(asked, ref))
        return
    found = shelf.query(asked, ref, limit=count or _SHOWN)
    if as_json:
        terminal.print_json(found)
        return
    names = [column.name for column in found.columns]
    numeric = [column.type.startswith(_NUMBERS) for column in found.columns]
    more = ", the first of more" if found.more else ""
    terminal.say(terminal.bold(terminal.count(len(found.rows), "row")) + f"{more}.")
    places, lines = told_in_columns(names, found.rows, numeric)
    for number, line in enumerate(lines):
        terminal.say(terminal.dim(line) if number == 0 else line)
    if len(places) < len(names):
        terminal.say("  " + terminal.dim(f"not shown: {fitting([n for i, n in enumerate(names) if i not in places])}"))
    for one in found.tables:
        if one.path:
            version = f", version {one.version}" if one.version else ""
            terminal.say(terminal.dim(f"  {one.name} is {one.path} at {one.ref}{version}"))
    if found.more:
        given = (
            f"--saved {shlex.quote(saved)}"
            if saved
            else f"--from {shlex.quote(str(file))}"
            if file
            else shlex.quote(asked)
        )
        terminal.next_step(f"everyshelf query {given} --csv" + (f" --at {ref}" if ref else ""))


_NUMBERS = ("bigint", "integer", "smallint", "tinyint", "hugeint", "ubigint", "uinteger", "decimal", "double", "float")


def _print_csv(table: object) -> None:
    """All rows, a batch at a time; nothing there is an empty cell."""
    import pyarrow as pa

    assert isinstance(table, pa.Table)
    click.echo(csv_text(table.column_names, []), nl=False)
    for batch in table.to_batches(max_chunksize=10_000):
        columns = [[_text(value) for value in column.to_pylist()] for column in batch.columns]
        rows = [list(row) for row in zip(*columns, strict=True)]
        click.echo(csv_text([], rows).partition("\n")[2], nl=False)


def _text(value: object) -> str | None:
    if value is None:
        return None
    return str(value).lower() if isinstance(value, bool) else str(value)

"""``outline`` and ``compare-files``: no service and no desk needed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from everyshelf.cli import terminal
from everyshelf.cli.fail_on import check_fail_on, fail_on_option
from everyshelf.cli.findings import print_artifact, print_measured, print_rows, print_table_line
from everyshelf.cli.options import json_option
from everyshelf.cli.reports import report_form, report_option, save_report
from everyshelf.desk.open_databases import unwritten_in

if TYPE_CHECKING:
    from everyshelf.core.answers.comparisons import ComparisonAnswer
    from everyshelf.core.answers.outlines import OutlineAnswer, PartAnswer
    from everyshelf.core.kinds.rules import Rules

_FILE = click.Path(exists=True, dir_okay=False, readable=True, path_type=Path)


_FILE_OR_FOLDER = click.Path(exists=True, readable=True, path_type=Path)


def _rules(path: Path | None) -> Rules:
    from everyshelf.core.kinds.rules import Rules, parse_rules

    return Rules() if path is None else parse_rules(path.read_text(encoding="utf-8"), name=path.name)


@click.command("outline")
@click.argument("file", type=_FILE_OR_FOLDER)
@click.option("--kind", help="Read FILE as this kind.")
@json_option
def outline(file: Path, kind: str | None, as_json: bool) -> None:
    """Show the structure of FILE: its kind, and its parts as a tree."""
    from everyshelf.core.reading.messages import FileAt
    from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker

    worker = Worker(deadline_seconds=WHOLE_SECONDS)
    try:
        found = worker.outline(FileAt(file.name, str(file)), kind=checked_kind(kind))
    finally:
        worker.close()
    if as_json:
        terminal.print_json(found)
        return
    _print_outline(file, found)


def _print_outline(file: Path, found: OutlineAnswer) -> None:
    read = "" if found.read_as == found.kind else f", read as {found.read_as}"
    terminal.say(terminal.bold(f"{file.name}: {found.kind}{read}, {terminal.size(found.size)}") + ".")
    if found.note:
        terminal.say(terminal.dim(f"  {found.note}"))
    if found.table is not None:
        for column in found.table.columns:
            terminal.say(terminal.line((2, "column"), (13, column.type), (23, terminal.bold(column.name))))
        terminal.say(terminal.line((2, terminal.dim("rows")), (23, str(found.table.row_count))))
    for name, value in (found.fields or {}).items():
        terminal.say(terminal.line((2, terminal.dim(name)), (23, terminal.fit(str(value), 23))))
    _print_parts(found.parts, 0)
    if found.truncated:
        terminal.say(terminal.dim("  … more parts are not shown"))


def _print_parts(parts: list[PartAnswer], depth: int) -> None:
    for part in parts:
        fields = ", ".join(f"{k} {v}" for k, v in part.fields.items() if str(v) != part.label)
        column = 2 + 2 * depth
        head = terminal.line(
            (column, terminal.dim(part.type)), (column + 11, terminal.bold(terminal.fit(part.label, column + 11)))
        )
        wide, at = terminal.width(), terminal.width_of(head) + 2
        if fields and (wide is None or wide - at > 12):
            head += f"  {terminal.dim(terminal.fit(fields, at))}"
        terminal.say(head)
        _print_parts(part.parts, depth + 1)


def checked_kind(kind: str | None) -> str | None:
    """A kind's id as given, or a usage error that lists them."""
    if kind is None:
        return None
    from everyshelf.core.kinds.registry import kind_ids

    if kind not in kind_ids():
        raise click.UsageError(f"{kind!r} is not a kind. The kinds are {', '.join(kind_ids())}.")
    return kind


@click.command("compare-files")
@click.argument("old", type=_FILE_OR_FOLDER)
@click.argument("new", type=_FILE_OR_FOLDER)
@click.option("--kind", help="Read both files as this kind.")
@click.option("--key", help="Key columns of a table, comma-separated; in a database TABLE:COLUMN[,COLUMN].")
@click.option("--rules", type=_FILE, help="A shelf.toml with the rules to use.")
@click.option("--limit", type=click.IntRange(0), default=10_000, show_default=True, help="Number of findings to print.")
@fail_on_option
@report_option
@json_option
def compare_files(
    old: Path,
    new: Path,
    kind: str | None,
    key: str | None,
    rules: Path | None,
    limit: int,
    fail_on: str | None,
    report: Path | None,
    as_json: bool,
) -> None:
    """Compare the files OLD and NEW by meaning.

    Folders too: as one table where all their files are parts of one, else file by file.
    """
    from everyshelf.core.compare.options import CompareOptions
    from everyshelf.core.reading.messages import FileAt
    from everyshelf.core.reading.worker import WHOLE_SECONDS, Worker

    form = report_form(report)
    keys = tuple(k.strip() for k in key.split(",") if k.strip()) if key else ()
    options = CompareOptions(_rules(rules), checked_kind(kind), keys, limit)
    worker = Worker(deadline_seconds=WHOLE_SECONDS)
    try:
        with terminal.waiting(f"Comparing {old.name} with {new.name}") as tick:
            from everyshelf.desk.kinds import files_beside

            before, after = (
                FileAt(file.name, str(file), {name: str(path) for name, path in files_beside(file).items()})
                for file in (old, new)
            )
            found = worker.compare(before, after, options, tick=tick)
    finally:
        worker.close()
    for file in (old, new):
        if why := unwritten_in(file):
            click.echo(f"{file}: {why}", err=True)
    if report is not None and form is not None:
        title = f"{old.name} to {new.name}" if old.name != new.name else new.name
        from everyshelf.core.report.document import as_artifact

        save_report(report, form, as_artifact(found, str(new)), title)
    if as_json:
        terminal.print_json(found)
    else:
        print_findings(found, old.name, new.name)
    check_fail_on(found, fail_on)


def print_findings(found: ComparisonAnswer, old: str, new: str) -> None:
    """A comparison of two files for a person; ``old`` and ``new`` are their names."""
    from everyshelf.core.compare.sentences import effects_phrase, headline

    if found.equal:
        terminal.say(terminal.bold("Nothing changed") + (f": {found.note}." if found.note else "."))
        return
    phrase = effects_phrase(found.effects, judged=found.judged)
    words = headline(found)
    terminal.say(terminal.bold(words[:1].upper() + words[1:]) + (f"; {phrase}." if phrase else "."))
    from_old = f"from {old}" if old != new else ""
    print_artifact(found, new, from_old, whole=True, headline=words)
    if found.model is not None:
        print_measured(found.model)
    if found.table is not None:
        print_table_line(found.table)
        print_rows(found.table, 12)
    for name, table in (found.tables or {}).items():
        print_table_line(table, name)
        print_rows(table, 6)
    cosmetic = found.effects["cosmetic"]
    if cosmetic and cosmetic < sum(found.effects.values()):
        terminal.say(terminal.dim(f"  {terminal.count(cosmetic, 'cosmetic finding')} not shown; see --json."))

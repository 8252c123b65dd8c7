"""``--report FILE``: a comparison as a page to keep."""

from __future__ import annotations

from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import click

from everyshelf.cli import terminal
from everyshelf.core.answers.states import ComparedArtifact, StateComparison

if TYPE_CHECKING:
    from everyshelf.core.report.document import Form

report_option = click.option(
    "--report",
    type=click.Path(dir_okay=False, writable=True, path_type=Path),
    metavar="FILE",
    help="Save it as one page: FILE.html, FILE.md or FILE.json.",
)


def report_form(file: Path | None) -> Form | None:
    """The form the file's name asks for, found out before anything is worked out."""
    if file is None:
        return None
    from everyshelf.core.report.document import form_of

    return form_of(file.name)


def save_report(file: Path, form: Form, found: StateComparison | ComparedArtifact, title: str) -> None:
    """Write a report of what was found."""
    from everyshelf.core.report.document import report_of_artifact, report_of_states, written

    made = datetime.now().astimezone()
    if isinstance(found, StateComparison):
        report = report_of_states(found, title=title, made=made)
    else:
        report = report_of_artifact(found, title=title, made=made)
    keep_report(file, written(report, form))


def keep_only(file: Path, text: str, *, as_json: bool) -> None:
    """Write the text of a report where that is all that was asked for."""
    keep_report(file, text)
    if as_json:
        terminal.print_json({"file": str(file), "size": file.stat().st_size})


def keep_report(file: Path, text: str) -> None:
    """Write the text of a report; whole or not at all."""
    part = file.with_name(f".{file.name}.part")
    try:
        part.write_text(text, encoding="utf-8")
        part.replace(file)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise click.ClickException(f"{file} cannot be written: {error.strerror or error}") from error
    click.echo(f"Saved {file}, {terminal.size(file.stat().st_size)}.", err=True)

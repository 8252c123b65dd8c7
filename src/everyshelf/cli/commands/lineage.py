"""``lineage``: what a version was made from, what was made from it, and whether it can be made again."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import at_option, shelf_options
from everyshelf.cli.session import default_ref, open_shelf

if TYPE_CHECKING:
    from everyshelf.core.answers.lineage import Ingredient, LineageAnswer, LineageVersion, Making

_FORMS = {".html": "html", ".json": "prov"}


@click.command("lineage")
@click.argument("artifact", shell_complete=completing.artifacts)
@click.option("--version", "number", type=click.IntRange(1), metavar="N", help="Version N; default: that of the state.")
@click.option("--depth", type=click.IntRange(1, 50), default=10, show_default=True, help="Number of steps each way.")
@at_option
@click.option(
    "--report",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Write it to a file: .html, or .json for PROV-JSON.",
)
@shelf_options
def lineage(
    artifact: str,
    number: int | None,
    depth: int,
    ref: str | None,
    report: Path | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show what a version of ARTIFACT was made from, what was made from it, and whether it can be made again."""
    shelf, desk = open_shelf(shelf_key, address)
    path, ref = desk.as_path(artifact) if desk else artifact, ref or default_ref(desk)
    if report is not None:
        form = _FORMS.get(report.suffix.lower())
        if form is None:
            raise click.UsageError(f"{report} is neither .html nor .json (PROV-JSON)")
        report.write_text(shelf.lineage_report(path, ref, version=number, depth=depth, form=form), encoding="utf-8")
        terminal.say(f"The lineage of {path} is in {report}.")
        return
    found = shelf.lineage(path, ref, version=number, depth=depth)
    if as_json:
        terminal.print_json(found)
    else:
        _show(found)


def _show(found: LineageAnswer) -> None:
    from everyshelf.core.lineage.telling import chain

    terminal.say(terminal.bold(found.sentence))
    names = {one.id: _name(found, one) for one in found.versions}
    for told in chain(found):
        if told.version is not None:
            _show_version(found, told.version, names)
        elif told.step is not None:
            _show_step(told.step, names)
    if found.more:
        terminal.say(terminal.dim("There are further steps."))
    terminal.say()
    terminal.say(terminal.bold(found.again.sentence))
    for need in found.again.needs:
        _show_need(need)


def _name(found: LineageAnswer, one: LineageVersion) -> str:
    name = f"{one.artifact} v{one.version}" if one.version is not None else one.artifact
    return name if one.shelf == found.shelf else f"{one.shelf}: {name}"


def _show_version(found: LineageAnswer, one: LineageVersion, names: dict[str, str]) -> None:
    when = f", {terminal.when(one.recorded)}" if one.recorded is not None else ""
    there = f"; in {', '.join(one.runs_in)}" if one.runs_in else ""
    told = terminal.dim(f"{one.kind}, {one.author}{when}{there}")
    mark = "●" if one.distance == 0 else "○"
    terminal.say(f"  {mark} {terminal.bold(names[one.id])}  {told}")


def _show_step(step: Making, names: dict[str, str]) -> None:
    when = f", {terminal.when(step.began)}" if step.began is not None else ""
    terminal.say(f"  → {step.name}  {terminal.dim(step.who + when)}")
    given = " ".join(f"{name}={value}" for name, value in step.parameters.items())
    for text in (step.command, given):
        if text:
            terminal.paragraph(terminal.dim(text), indent=6)
    reads = ", ".join(names[one] for one in step.reads) or "nothing that is recorded"
    more_read = f" and {step.more_reads} more" if step.more_reads else ""
    writes = ", ".join(names[one] for one in step.writes) or "nothing new"
    more_written = f" and {step.more_writes} more" if step.more_writes else ""
    terminal.paragraph(f"reads {reads}{more_read}; makes {writes}{more_written}", indent=6)


def _show_need(need: Ingredient) -> None:
    mark = {True: terminal.tone("added", "✓"), False: terminal.tone("removed", "✗"), None: "?"}[need.there]
    detail = terminal.dim(f"  {need.detail}") if need.detail else ""
    terminal.say(f"  {mark} {need.what:<11}{need.name}{detail}")

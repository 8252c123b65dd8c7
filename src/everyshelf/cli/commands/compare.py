"""``compare``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click
import msgspec

from everyshelf.cli import completing, terminal
from everyshelf.cli.fail_on import check_fail_on, fail_on_option
from everyshelf.cli.findings import print_artifact, print_measured, print_rows, print_table_line
from everyshelf.cli.options import as_whole, shelf_options, whole_option
from everyshelf.cli.reports import keep_report, report_form, report_option, save_report
from everyshelf.cli.session import default_ref, open_shelf
from everyshelf.core.answers.comparisons import Compared
from everyshelf.core.answers.states import ArtifactComparison, ComparedArtifact, RefAnswer, StateComparison

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.desk.desk import Desk

_MOST_ROWS = 20


@click.command("compare")
@click.argument("refs", nargs=-1, metavar="[FROM] [TO] [ARTIFACT]", shell_complete=completing.refs_or_artifacts)
@fail_on_option
@report_option
@whole_option
@shelf_options
def compare(
    refs: tuple[str, ...],
    whole: bool,
    fail_on: str | None,
    report: Path | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Compare two states by meaning (steps, columns, rows), not by lines.

    FROM and TO are refs; TO is the desk's branch if left out. Without refs, the desk is compared with its branch. A
    branch, draft or desk is compared from where it parted from the branch FROM; a commit or tag is taken as it is.
    With an ARTIFACT, all its findings are shown with whole values, and refs may be version:N.
    """
    form = report_form(report)
    shelf, desk = open_shelf(shelf_key, address)
    before, after, artifact = _three(refs, desk)
    before, after = (as_whole(shelf, ref, whole=whole) for ref in (before, after))
    found: StateComparison | _OneArtifact
    if "desk" in (before, after):
        found = _compare_desk(shelf, _required(desk), before, after, artifact)
    elif artifact is not None:
        path = desk.as_path(artifact) if desk else artifact
        found = _single(shelf, before, after, _path_of(shelf, path, after))
    else:
        with terminal.progress_bar("Comparing") as progress:
            found = shelf.compare(before, after, lambda job: progress(job.done, job.total, job.note))
    if report is not None and form is not None:
        on_desk = "desk" in (before, after)
        title = f"{f'{artifact} ' if artifact else ''}from {before} to {after}"
        which = found.path if isinstance(found, _OneArtifact) else None
        text = None if on_desk else shelf.compare_report(before, after, path=which, form=form)
        if text is not None:
            keep_report(report, text)
        elif isinstance(found, StateComparison):
            save_report(report, form, found, title)
    if as_json:
        terminal.print_json(found)
    elif isinstance(found, StateComparison):
        _print_states(found, before, after, whole=artifact is not None)
    else:
        _print_one(found, before, after)
    check_fail_on(found, fail_on)


def _three(refs: tuple[str, ...], desk: Desk | None) -> tuple[str, str, str | None]:
    if len(refs) > 3:
        raise click.UsageError("give at most FROM, TO and one ARTIFACT")
    if not refs:
        return default_ref(_required(desk)) or "main", "desk", None
    before = refs[0]
    after = refs[1] if len(refs) > 1 else default_ref(desk) or "main"
    return before, after, refs[2] if len(refs) > 2 else None


def _required(desk: Desk | None) -> Desk:
    if desk is None:
        raise click.UsageError("this compares a desk, so run it on one, or name two refs")
    return desk


def _path_of(shelf: ShelfClient, name: str, ref: str) -> str:
    """A path, or the one artifact people call so."""
    from everyshelf.desk.naming import spoken_name

    artifacts = list(shelf.artifacts(None if ref.startswith("version:") else ref))
    if any(a.path == name for a in artifacts):
        return name
    alike = [a.path for a in artifacts if spoken_name(a.path) == spoken_name(name)]
    if len(alike) > 1:
        raise click.UsageError(f"{name!r} is the name of {len(alike)} artifacts: {', '.join(alike[:4])}")
    return alike[0] if alike else name


class _OneArtifact(ArtifactComparison, kw_only=True):
    """An artifact compared, with what was asked for."""

    path: str
    from_: RefAnswer = msgspec.field(name="from")
    to: RefAnswer


def _single(shelf: ShelfClient, before: str, after: str, path: str) -> _OneArtifact:
    found = msgspec.structs.asdict(shelf.compare_artifact(path, before, after))
    return _OneArtifact(**found, path=path, from_=RefAnswer(ref=before), to=RefAnswer(ref=after))


def _compare_desk(shelf: ShelfClient, desk: Desk, before: str, after: str, artifact: str | None) -> StateComparison:
    from everyshelf.desk.comparing import compare_desk

    ref, backwards = (after, True) if before == "desk" else (before, False)
    with terminal.progress_bar("Comparing") as progress:
        return compare_desk(desk, shelf, ref, artifact, progress, backwards=backwards)


# --- printing --------------------------------------------------------------------


def _print_one(found: _OneArtifact, before: str, after: str) -> None:
    name = found.path.rpartition("/")[2]
    line = found.headline[:1].upper() + found.headline[1:]
    terminal.paragraph(terminal.bold(line) + f"; {name} from {before} to {after}.")
    versions = found.before.version if found.before else None, found.after.version if found.after else None
    print_artifact(found, name, _versions(*versions), shown=500, whole=True, headline=found.headline)
    _print_tables(found)


def _print_states(found: StateComparison, before: str, after: str, *, whole: bool) -> None:
    terminal.paragraph(terminal.bold(found.sentence))
    for artifact in found.artifacts:
        _print_artifact(artifact, whole=whole)
    parted = found.parted
    if parted is not None:
        said = f"as {before} is now, with its {terminal.count(parted.newer, 'newer commit')} undone:"
        terminal.say(terminal.dim(f"  {said} everyshelf compare commit:{(parted.head or '')[:12]} {after}"))
    first = next((a for a in found.artifacts if a.findings), None)
    if first is not None and not whole:
        import shlex

        terminal.next_step(f"everyshelf compare {before} {after} {shlex.quote(first.path)}")


def _print_artifact(artifact: ComparedArtifact, *, whole: bool) -> None:
    path, name = artifact.path, artifact.name
    if not artifact.findings:
        moved = f"from {artifact.old_path}" if artifact.state == "moved" else ""
        terminal.row(artifact.state, artifact.kind, name, terminal.dim(moved or (path if name != path else "")))
        return
    print_artifact(artifact, name, _versions(*artifact.versions), shown=500 if whole else 8, whole=whole)
    if whole:
        _print_tables(artifact)
    elif artifact.table is not None:
        print_table_line(artifact.table)


def _versions(before: int | None, after: int | None) -> str:
    return " → ".join(f"v{version}" for version in (before, after) if version)


def _print_tables(found: Compared) -> None:
    if found.model is not None:
        print_measured(found.model)
    for name, table in (found.tables or {}).items():
        print_table_line(table, name)
        print_rows(table, _MOST_ROWS)
    if found.table is not None:
        print_table_line(found.table)
        print_rows(found.table, _MOST_ROWS)

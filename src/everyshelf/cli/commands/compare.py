"""``compare``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.fail_on import check_fail_on, fail_on_option
from everyshelf.cli.findings import print_artifact, print_measured, print_rows, print_table_line
from everyshelf.cli.options import shelf_options
from everyshelf.cli.reports import report_form, report_option, save_report
from everyshelf.cli.session import default_ref, open_shelf

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.desk.desk import Desk

_MOST_ROWS = 20


@click.command("compare")
@click.argument("refs", nargs=-1, metavar="[FROM] [TO] [ARTIFACT]", shell_complete=completing.refs_or_artifacts)
@fail_on_option
@report_option
@shelf_options
def compare(
    refs: tuple[str, ...],
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
        which: str | None = None if artifact is None else found.get("path")
        text = None if on_desk else shelf.compare_report(before, after, path=which, form=form)
        save_report(report, form, found if text is None else text, title)
    if as_json:
        terminal.print_json(found)
    else:
        _print(found, before, after, whole=artifact is not None)
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


def _single(shelf: ShelfClient, before: str, after: str, path: str) -> dict[str, Any]:
    found = shelf.compare_artifact(path, before, after)
    return {**found, "path": path, "from": {"ref": before}, "to": {"ref": after}}


def _compare_desk(shelf: ShelfClient, desk: Desk, before: str, after: str, artifact: str | None) -> dict[str, Any]:
    from everyshelf.desk.comparing import compare_desk

    ref, backwards = (after, True) if before == "desk" else (before, False)
    with terminal.progress_bar("Comparing") as progress:
        found = compare_desk(desk, shelf, ref, artifact, progress, backwards=backwards)
    return {"from": {"ref": before}, "to": {"ref": after}, **found}


# --- printing --------------------------------------------------------------------


def _print(found: dict[str, Any], before: str, after: str, *, whole: bool) -> None:
    if "artifacts" not in found:
        name = found["path"].rpartition("/")[2]
        line = found["headline"][:1].upper() + found["headline"][1:]
        terminal.paragraph(terminal.bold(line) + f"; {name} from {before} to {after}.")
        print_artifact(found, name, _versions(found), shown=500, whole=True)
        _print_table(found)
        return
    terminal.paragraph(terminal.bold(found["sentence"]))
    for row in found["artifacts"]:
        _print_row(row, whole=whole)
    parted = found.get("parted")
    if parted:
        said = f"as {before} is now, with its {terminal.count(parted['newer'], 'newer commit')} undone:"
        terminal.say(terminal.dim(f"  {said} everyshelf compare commit:{parted['head'][:12]} {after}"))
    first = next((a for a in found["artifacts"] if a["findings"]), None)
    if first is not None and not whole:
        import shlex

        terminal.next_step(f"everyshelf compare {before} {after} {shlex.quote(first['path'])}")


def _print_row(row: dict[str, Any], *, whole: bool) -> None:
    name = row.get("name") or row["path"].rpartition("/")[2]
    if not row["findings"]:
        moved = f"from {row['old_path']}" if row["state"] == "moved" else ""
        terminal.row(
            row["state"], row["kind"], name, terminal.dim(moved or (row["path"] if name != row["path"] else ""))
        )
        return
    print_artifact({**row, "effects": row["effects"]}, name, _versions(row), shown=500 if whole else 8, whole=whole)
    if whole:
        _print_table(row)
    elif "table" in row:
        print_table_line(row["table"])


def _versions(row: dict[str, Any]) -> str:
    sides = [(row.get(side) or {}).get("version") for side in ("before", "after")]
    return " → ".join(f"v{v}" for v in sides if v) if any(sides) else ""


def _print_table(found: dict[str, Any]) -> None:
    if "model" in found:
        print_measured(found["model"])
    for name, table in found.get("tables", {}).items():
        print_table_line(table, name)
        print_rows(table, _MOST_ROWS)
    if "table" not in found:
        return
    print_table_line(found["table"])
    print_rows(found["table"], _MOST_ROWS)

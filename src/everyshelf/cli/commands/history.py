"""``history``, ``browse``, ``copy`` and ``verify``."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.commands.commit_page import show_commit
from everyshelf.cli.commands.origins import show_forms
from everyshelf.cli.commands.version_page import show_version
from everyshelf.cli.csv_output import csv_text
from everyshelf.cli.options import as_whole, at_option, shelf_options, whole_option
from everyshelf.cli.reports import keep_only, report_form, report_option
from everyshelf.cli.session import default_ref, open_shelf

if TYPE_CHECKING:
    from everyshelf.client import CommitListed, ShelfClient
    from everyshelf.desk.desk import Desk

_SHOWN = 20
_SORTS = ["path", "kind", "version", "summary", "who", "when", "size", "effect"]


@click.command("history")
@click.argument("artifact", required=False, shell_complete=completing.artifacts)
@at_option
@click.option("--commit", "one", metavar="ID", help="Show one commit: what it changed, and what it is part of.")
@click.option("--version", type=click.IntRange(1), help="With ARTIFACT: show this version and what has it.")
@click.option("--from", "start", metavar="REF", help="Only commits that REF lacks.", shell_complete=completing.refs)
@click.option("--since", metavar="DATE", help="Only commits recorded on this day or later.")
@click.option("--until", metavar="DATE", help="Only commits recorded on this day or earlier.")
@click.option("--by", metavar="PERSON", help="Only commits of this author.")
@click.option("--label", metavar="KEY[=VALUE]", help="Only commits with this label.")
@click.option("--task", metavar="ID", help="Only commits for this task.")
@click.option("--path", help="Only commits that touch this artifact, under all of its names, or this folder.")
@click.option("--kind", help="Only commits that touch an artifact of this kind.")
@click.option("--effect", type=click.Choice(["breaks", "alters", "cosmetic"]), help="Only commits with this effect.")
@click.option("--words", help="Only commits with these words in summary or description.")
@click.option("--oldest-first", is_flag=True, help="Begin with the oldest.")
@click.option("--part", metavar="PART", help="With ARTIFACT: the commits that touched this part, a path or a label.")
@click.option("--limit", type=click.IntRange(1), help="Number of entries; default: 20, with --csv all.")
@click.option("--csv", "as_csv", is_flag=True, help="Print a table for other programs.")
@report_option
@shelf_options
def history(
    artifact: str | None,
    ref: str | None,
    part: str | None,
    one: str | None,
    version: int | None,
    report: Path | None,
    limit: int | None,
    oldest_first: bool,
    as_csv: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
    **sought: str | None,
) -> None:
    """List the commits of a branch, or the versions of ARTIFACT, newest first."""
    shelf, desk = open_shelf(shelf_key, address)
    wanted = {name: value for name, value in sought.items() if value}
    ref = ref or default_ref(desk)
    filtered = bool(wanted) or oldest_first or as_csv or report is not None
    if one is not None or version is not None or part is not None:
        if filtered or sum(option is not None for option in (one, version, part)) > 1:
            raise click.UsageError("--commit, --version and --part each show one thing and go with no other option")
        if one is not None:
            show_commit(shelf, one, as_json)
        elif version is not None:
            show_version(shelf, _path_of(desk, artifact, "--version N"), ref, version, as_json)
        else:
            show_forms(shelf, _path_of(desk, artifact, "--part PART"), ref, as_json, part=part)
    elif artifact is not None:
        if filtered:
            raise click.UsageError("ARTIFACT lists versions; to look among commits: everyshelf history --path ARTIFACT")
        _show_versions(shelf, _path_of(desk, artifact, ""), ref, limit or _SHOWN, as_json)
    else:
        if "path" in wanted and desk:
            wanted["path"] = desk.as_path(wanted["path"])
        if oldest_first:
            wanted["order"] = "oldest"
        if report is not None:
            _save(shelf, report, ref, wanted, as_json=as_json)
        else:
            _list_commits(shelf, ref, wanted, limit, as_csv=as_csv, as_json=as_json)


def _list_commits(
    shelf: ShelfClient, ref: str | None, wanted: dict[str, str], limit: int | None, *, as_csv: bool, as_json: bool
) -> None:
    commits = list(shelf.commits(ref, limit or (None if as_csv else _SHOWN), **wanted))
    if as_csv:
        _print_csv(commits)
    elif as_json:
        terminal.print_json(commits)
    else:
        among = " that match" if wanted.keys() - {"order"} else ""
        first = "oldest" if "order" in wanted else "newest"
        what = terminal.bold(f"{terminal.count(len(commits), 'commit')} of {ref or 'main'}")
        terminal.say(f"{what}{among}, {first} first.")
        _show_commits(commits)


def _path_of(desk: Desk | None, artifact: str | None, option: str) -> str:
    """The path of the artifact that is named; raises ``UsageError`` where none is."""
    if artifact is None:
        raise click.UsageError(f"name the artifact: everyshelf history ARTIFACT {option}")
    return desk.as_path(artifact) if desk is not None else artifact


def _save(shelf: ShelfClient, report: Path, ref: str | None, wanted: dict[str, str], *, as_json: bool) -> None:
    """Write the commits that are sought as a report."""
    form = report_form(report)
    assert form is not None
    keep_only(report, shelf.history_report(ref, form, **wanted), as_json=as_json)


def _show_versions(shelf: ShelfClient, path: str, ref: str | None, limit: int | None, as_json: bool) -> None:
    """Show the versions of an artifact, newest first."""
    versions = shelf.history(path, ref, limit)
    if as_json:
        terminal.print_json(versions)
        return
    terminal.say(terminal.bold(f"{terminal.count(len(versions), 'version')} of {path}") + ", newest first.")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(8),
            terminal.Column(18),
            terminal.Column(32),
            terminal.Column(terminal.DETAIL - 4, text=True),
        )
    )
    for v in versions:
        number = f"v{v.version}" if v.version else "gone"
        commit = v.commit[:8] if v.commit else ""
        listing.row((number, terminal.bold), commit, terminal.when(v.recorded), v.author, v.summary)
        if v.headline:
            told = terminal.dim(terminal.fit(v.headline, 18))
            listing.under(terminal.line((8, terminal.effect(v.effect)), (18, told)))
    listing.show()


def _show_commits(commits: Sequence[CommitListed]) -> None:
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(27),
            terminal.Column(36, text=True),
            terminal.Column(0),
        )
    )
    for c in commits:
        tags = " ".join(f"tag:{t}" for t in c.tags)
        cells = (c.commit[:8], terminal.bold), terminal.when(c.recorded), c.author, c.summary
        listing.row(*cells, (tags, terminal.command))
    listing.show()


def _print_csv(commits: Sequence[CommitListed]) -> None:
    """Print a line for each commit, with the number of its artifacts and the worst effect on any."""
    rows = []
    for one in commits:
        labels = " ".join(f"{key}={value}" for key, value in one.labels.items())
        cells = [one.commit, one.recorded.isoformat(), one.author, one.summary, one.effect, one.artifact_count]
        rows.append([*cells, " ".join(one.tags), " ".join(one.tasks), labels])
    heads = ["commit", "recorded", "author", "summary", "effect", "artifacts", "tags", "tasks", "labels"]
    click.echo(csv_text(heads, rows), nl=False)


@click.command("browse")
@click.argument("path", required=False, shell_complete=completing.artifacts)
@at_option
@click.option(
    "--output", type=click.Path(dir_okay=False, path_type=Path), help="Write the artifact at PATH to this file."
)
@click.option(
    "--zip",
    "zip_file",
    type=click.Path(dir_okay=False, path_type=Path),
    help="Write the folder PATH, or everything, to this file as a zip.",
)
@click.option("--encoding", help="Read text in this encoding.")
@click.option("--kind", help="Only artifacts of this kind.")
@click.option("--by", metavar="PERSON", help="Only artifacts last changed by this person.")
@click.option("--effect", type=click.Choice(["breaks", "alters", "cosmetic"]), help="Only with this last effect.")
@click.option("--words", help="Only with these words in path, last commit's summary or author.")
@click.option("--label", metavar="KEY[=VALUE]", help="Only artifacts whose last commit has this label.")
@click.option("--since", metavar="DATE", help="Only artifacts changed on this day or later.")
@click.option("--edited", "state", flag_value="edited", help="Only what you have edited and not committed.")
@click.option("--sort", type=click.Choice(_SORTS), help="Sort by this; size, version and when begin with the largest.")
@whole_option
@shelf_options
def browse(
    path: str | None,
    ref: str | None,
    whole: bool,
    output: Path | None,
    zip_file: Path | None,
    encoding: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
    **sought: str | None,
) -> None:
    """List the shelf's contents, or those of the folder PATH; show the artifact PATH as text."""
    shelf, desk = open_shelf(shelf_key, address)
    ref = ref or default_ref(desk)
    ref = as_whole(shelf, ref, whole=whole) if ref else ref
    if zip_file is not None:
        where = desk.as_path(path) if desk and path else path or ""
        shelf.download_zip(zip_file, ref, folder=where)
        size = zip_file.stat().st_size
        if as_json:
            terminal.print_json({"file": str(zip_file), "size": size})
        else:
            said = f"{where or 'Everything'} at {ref or 'main'} written to {zip_file}, {terminal.size(size)}."
            terminal.say(said)
        return
    wanted = {name: value for name, value in sought.items() if value}
    if wanted.get("sort") in ("when", "size", "version"):
        wanted["sort"] = f"-{wanted['sort']}"
    found = list(shelf.artifacts(ref, path or None, files=False, **wanted))
    if path and not found and not wanted:
        _show_artifact(shelf, desk.as_path(path) if desk else path, ref, output, encoding, as_json)
        return
    if output is not None or encoding is not None:
        what = f"{path} is a folder" if path else "no artifact is named"
        raise click.UsageError(
            f"{what}; --output and --encoding need one artifact. To get a folder: everyshelf browse FOLDER --zip FILE"
        )
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(
        terminal.bold(f"{terminal.count(len(found), 'artifact')} at {ref or 'main'}")
        + (f" in {path}." if path else ".")
    )
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND, path=True),
            terminal.Column(57),
            terminal.Column(63, right=True),
            terminal.Column(72),
            terminal.Column(82),
        )
    )
    for a in found:
        version = f"v{a.version}" if a.version else ""
        when = terminal.when(a.recorded) if a.recorded else ""
        cells = (a.path, terminal.bold), (version, terminal.dim), terminal.size(a.size), a.author, when
        listing.row(a.kind, *cells)
    listing.show()


def _show_artifact(shelf, path, ref, output, encoding, as_json) -> None:  # type: ignore[no-untyped-def]
    if output is not None:
        _download(shelf, path, ref, output)
        size = f", {terminal.size(output.stat().st_size)}" if output.is_file() else ""
        terminal.say(f"{path} written to {output}{size}.")
        return
    text = shelf.text(path, ref, encoding=encoding)
    if as_json:
        terminal.print_json({**text, "path": path})
    else:
        click.echo(text["text"], nl=not text["text"].endswith("\n"))


def _download(shelf, path, ref, output) -> None:  # type: ignore[no-untyped-def]
    target = output.resolve()  # a link is written through
    if target.exists() and not target.is_file():
        shelf.download(path, target, ref)  # a pipe or a device
        return
    part = target.with_name(f".{target.name[:80]}.part")
    try:
        shelf.download(path, part, ref)
        part.replace(target)
    finally:
        part.unlink(missing_ok=True)


@click.command("verify")
@shelf_options
def verify(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Re-read every commit, folder and content of the shelf and report any damage."""
    shelf, _ = open_shelf(shelf_key, address)
    with terminal.progress_bar("Verifying") as progress:
        job = shelf.wait(shelf.verify(), lambda job: progress(job.done, job.total, job.note))
    found = job.result or {}
    problems = found.get("problems", [])
    if as_json:
        terminal.print_json(found)
    else:
        if found.get("in_place"):
            contents = terminal.count(found["in_place"], "content")
            terminal.say(f"  {contents} in place; to see whether they have changed: everyshelf in-place check")
        numbers = f"{terminal.count(found['commits'], 'commit')}, {terminal.count(found['nodes'], 'folder')}"
        numbers += f" and {terminal.count(found['contents'], 'file')}"
        verdict = (
            "no damage found"
            if not problems
            else f"{terminal.count(len(problems), 'thing does', 'things do')} not match"
        )
        terminal.say(terminal.bold(f"Checked {numbers}: {verdict}") + ".")
        for problem in problems:
            terminal.say(f"  ‖ {problem}")
    if problems:
        raise click.exceptions.Exit(1)


@click.command("copy")
@click.argument("source", metavar="SHELF", shell_complete=completing.shelves)
@click.argument("artifact", metavar="PATH")
@click.option("--version", type=click.IntRange(1), help="Copy this version; default: the newest.")
@click.option("--output", "to", default="", metavar="PATH", help="Path on this shelf; default: the same path.")
@click.option(
    "--branch",
    default="",
    help="Branch to commit to; default: the desk's, or the main branch.",
    shell_complete=completing.branches,
)
@click.option("--summary", default="", help="Commit summary.")
@shelf_options
def copy(
    source: str,
    artifact: str,
    version: int | None,
    to: str,
    branch: str,
    summary: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Copy the artifact PATH of another SHELF with its version history. Authors and times are kept."""
    shelf, desk = open_shelf(shelf_key, address)
    onto = branch or (desk.home.branch if desk else None) or ""
    made = shelf.copy(source, artifact, version=version, to=to, branch=onto, summary=summary)
    if as_json:
        terminal.print_json(made)
        return
    what = terminal.count(made["versions"], "version")
    terminal.say(terminal.bold(f"Copied {made['path']} with {what}") + f", commit {made['commit'][:8]}.")
    terminal.say(f"  copied from {made['copied_from']}")
    terminal.next_step(f"everyshelf history {shlex.quote(made['path'])} --shelf {shelf.key}")

"""``run``: a command as a run of an experiment, on the desk or in a folder of its own."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import shelf_options
from everyshelf.cli.session import get_desk, open_client, open_shelf

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.desk.desk import Desk
    from everyshelf.desk.running import Ran
    from everyshelf.desk.states import Item


@dataclass(frozen=True)
class _Wanted:
    """What was asked for."""

    command: tuple[str, ...]
    parameters: dict[str, str]
    also: tuple[str, ...]
    summary: str
    as_json: bool


@dataclass(frozen=True)
class _Place:
    """Where the command runs: the folder, and the desk it lies on."""

    desk: Desk
    shelf: ShelfClient
    experiment: str
    folder: Path
    isolated: bool


@click.command("run")
@click.argument("command", nargs=-1, type=click.UNPROCESSED, required=True)
@click.option("--set", "given", multiple=True, metavar="NAME=VALUE", help="A parameter; may be repeated.")
@click.option("--experiment", "key", default="", help="Key of the experiment; default: the one of this branch.")
@click.option(
    "--read",
    "also",
    multiple=True,
    metavar="PATH",
    help="An input that cannot be detected automatically; may be repeated.",
)
@click.option("--summary", default="", help="Commit summary.")
@click.option(
    "--isolated",
    is_flag=True,
    help="Run it in a new folder that has the newest state of the branch; this desk is left alone.",
)
@click.option(
    "--branch",
    shell_complete=completing.branches,
    help="With --isolated: branch to run on and commit to; default: the desk's.",
)
@click.option("--keep", is_flag=True, help="With --isolated: keep the folder afterwards.")
@shelf_options
def run(
    command: tuple[str, ...],
    given: tuple[str, ...],
    key: str,
    also: tuple[str, ...],
    summary: str,
    isolated: bool,
    branch: str | None,
    keep: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Run COMMAND as an experiment run; commit the files it writes, with inputs, parameters and metrics.

    Parameters reach it as {NAME} in its arguments, as EVERYSHELF_PARAM_NAME, and together as JSON in
    EVERYSHELF_PARAMETERS. Metrics are read from the files that shelf.toml names, and from the file EVERYSHELF_METRICS
    names (JSON or JSON lines).

    With --isolated the command finds what is on the branch and nothing else: no pending edits, no ignored files. The
    folder is removed when what the command wrote is committed.
    """
    wanted = _Wanted(command, _parameters(given), also, summary, as_json)
    if isolated:
        with _isolated(shelf_key, address, branch, key, keep) as place:
            code = _run(place, wanted, keep)
    else:
        if branch or keep or shelf_key or address:
            raise click.UsageError("--branch, --keep, --shelf and --address go with --isolated")
        desk = get_desk()
        shelf = open_client(None, desk).shelf(desk.home.shelf)
        found = _experiment(desk.home.branch, shelf, key)
        code = _run(_Place(desk, shelf, found, Path.cwd(), isolated=False), wanted, keep)
    if code:
        raise click.exceptions.Exit(1)


@contextmanager
def _isolated(shelf_key: str | None, address: str | None, branch: str | None, key: str, keep: bool) -> Iterator[_Place]:
    """A folder of its own; it stays where what the command wrote there could not be committed."""
    from everyshelf.desk.isolated import make_isolated
    from everyshelf.desk.unsent import has_unsent

    shelf, near = open_shelf(shelf_key, address)
    branch = branch or (near.home.branch if near is not None else shelf.info().main_branch)
    found = _experiment(branch, shelf, key)
    with terminal.progress_bar("Taking") as progress:
        made = make_isolated(shelf, str(branch), near, progress)
    if made.taken.in_place:
        artifacts = terminal.count(len(made.taken.in_place), "artifact")
        click.echo(f"Not in the folder: {artifacts} whose data lie in place.", err=True)
    done = False
    try:
        yield _Place(made.desk, shelf, found, made.folder_of(near, Path.cwd()), isolated=True)
        done = True
    finally:
        if keep or has_unsent(made.desk.root) or (not done and made.desk.pending()):
            click.echo(f"The folder is kept: {made.desk.root}", err=True)
        else:
            made.remove()


def _run(place: _Place, wanted: _Wanted, keep: bool) -> int:
    """Run the command, record what came of it, and print that; gives the command's exit code."""
    from everyshelf.desk.running import run_command

    desk, shelf, found = place.desk, place.shelf, place.experiment
    before = set() if place.isolated else {i.path for i in desk.pending()}
    ran = run_command(desk, wanted.command, wanted.parameters, folder=place.folder, to_stderr=wanted.as_json)
    also = (str(named) if (named := place.folder / path).exists() else path for path in wanted.also)
    reads = sorted({*(ran.reads or ()), *map(desk.as_path, also)})
    items = desk.pending() if ran.exit_code == 0 else []
    told = {
        "reads": reads,
        "parameters": wanted.parameters,
        "metrics": ran.measured.metrics,
        "series": ran.measured.series,
        "command": shlex.join(wanted.command),
        "state": "done" if ran.exit_code == 0 else "failed",
        "exit_code": ran.exit_code,
        "note": _note(ran, before, items),
        "began": ran.began,
        "took_seconds": round(ran.took_seconds, 3),
    }
    said = wanted.summary or _summary(found, wanted.parameters)
    made, unsent = _captured(desk, shelf, found, items, said, told)
    if wanted.as_json:
        wrote = [i.path for i in items]
        terminal.print_json({"experiment": found, "run": made, "unsent": unsent, "wrote": wrote})
    else:
        _print_run(place, made, items, ran)
        if place.isolated and ran.exit_code and not keep:
            terminal.say(terminal.dim("The folder it ran in is removed. To look into it, run it again with --keep."))
    return ran.exit_code


def _experiment(branch: str | None, shelf: ShelfClient, key: str) -> str:
    if branch is None:
        raise click.UsageError(
            "this desk is read only; take the experiment's branch: everyshelf take SHELF --branch NAME"
        )
    if key:
        return key
    known = shelf.experiments(state="open", branch=branch, limit=1)
    if not known:
        raise click.UsageError(
            f"no open experiment is tried on {branch}. Name one: --experiment KEY,"
            ' or begin one: everyshelf experiment begin "QUESTION"'
        )
    found: str = known[0]["key"]
    return found


def _parameters(given: tuple[str, ...]) -> dict[str, str]:
    result = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not equals or not name.strip():
            raise click.BadParameter(f"{text!r} is not NAME=VALUE", param_hint="--set")
        result[name.strip()] = value
    return result


def _summary(key: str, parameters: dict[str, str]) -> str:
    told = ", ".join(f"{name} {value}" for name, value in parameters.items())
    return f"Run of {key}" + (f": {told}" if told else "")


def _note(ran: Ran, before: set[str], items: list[Item]) -> str:
    notes = [ran.note]
    if ran.reads is None:
        notes.append("what it read is not known: this file system keeps no access times")
    if ran.exit_code and not ran.note:
        notes.append(f"ended with {ran.exit_code}")
    edited = sorted(before & {i.path for i in items})
    if edited:
        notes.append(f"edited before the run and committed with it: {', '.join(edited[:5])}")
    return "; ".join(n for n in notes if n)[:500]


def _captured(
    desk: Desk, shelf: ShelfClient, key: str, items: list[Item], summary: str, told: dict[str, Any]
) -> tuple[dict[str, Any] | None, int]:
    """The run as recorded, or how many commits wait on the desk with it while the service is out of reach."""
    from everyshelf.cli.commands.desk import send_first
    from everyshelf.client import CommitMessage, UnreachableError

    branch = str(desk.home.branch)
    message = CommitMessage(summary, labels={"experiment": key})
    try:
        send_first(desk, shelf)
        base = desk.home.commit
        commit = desk.commit(shelf, items, message, merge=True).commit if items else base
        if commit is None:
            raise click.UsageError(
                "a run is recorded with a commit, and this branch has none yet; commit something first"
            )
        return shelf.record_run(key, branch, commit, base=base or "", **told), 0
    except UnreachableError as error:
        if error.code != "service.unreachable":
            raise
        return None, desk.commit_later(items, message, run={"experiment": key, **told})


def _print_run(place: _Place, made: dict[str, Any] | None, items: list[Item], ran: Ran) -> None:
    key = place.experiment
    took = f"{ran.took_seconds:.1f} s" if ran.took_seconds < 90 else f"{ran.took_seconds / 60:.0f} min"
    if made is None:
        where = f"in {place.desk.root}" if place.isolated else "on this desk"
        terminal.say(terminal.bold(f"A run of {key} waits {where}") + "; the service is out of reach.")
        there = f"cd {shlex.quote(str(place.desk.root))} && " if place.isolated else ""
        terminal.next_step(f"{there}everyshelf commit --send")
        return
    how = "ended" if made["state"] == "done" else terminal.stops("failed")
    terminal.say(terminal.bold(f"Run {made['number']} of {key}") + f" {how} after {took}, at {made['commit'][:8]}.")
    wrote = ", ".join(Path(i.path).name for i in items[:4]) + (f" and {len(items) - 4} more" if len(items) > 4 else "")
    read = ", ".join(f"{r['name']} v{r['version']}" for r in made["reads"][:5])
    more = f" and {len(made['reads']) - 5} more" if len(made["reads"]) > 5 else ""
    for word, text in (("read", read + more), ("wrote", wrote), ("note", made["note"])):
        if text:
            terminal.labelled(word, text)
    for name, value in list(made["metrics"].items())[:8]:
        terminal.say(terminal.line((2, "metric"), (terminal.KIND, name), (40, terminal.bold(terminal.number(value)))))
    terminal.next_step(f"everyshelf experiment show {key}")

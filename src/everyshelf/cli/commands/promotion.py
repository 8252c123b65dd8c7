"""``rehearse``, ``promote``, ``rollback`` and ``drift``."""

from __future__ import annotations

import shlex
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.errors import CONFLICT, REFUSED
from everyshelf.cli.folders import print_by_folder
from everyshelf.cli.options import shelf_options
from everyshelf.cli.reports import keep_report, report_form, report_option
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.client import Job, ShelfClient

_MOST_ARTIFACTS, _MOST_STEPS = 60, 40


@click.command("rehearse")
@click.argument("tag", shell_complete=completing.tags)
@click.argument("environment", shell_complete=completing.environments)
@report_option
@shelf_options
def rehearse(
    tag: str, environment: str, report: Path | None, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Show what promoting TAG to ENVIRONMENT would do, without changing anything. Exit code 4 if a gate is not met."""
    shelf, _ = open_shelf(shelf_key, address)
    form = report_form(report)
    if report is not None and form is not None:
        keep_report(report, shelf.rehearsal_report(tag, environment, form))
    found = shelf.rehearse(tag, environment)
    if as_json:
        terminal.print_json(found)
    else:
        print_rehearsal(found)
    if found["not_met"]:
        raise click.exceptions.Exit(REFUSED)


def print_rehearsal(found: dict[str, Any]) -> None:
    """The rehearsal: sentence, counts, artifacts, gates, drift, next step."""
    terminal.say(terminal.bold(found["sentence"]))
    counts = found["counts"]
    marks = [
        terminal.tone(s, f"{terminal.GLYPHS[s]} {counts[s]} {s}") for s in ("added", "changed", "removed") if counts[s]
    ]
    same = terminal.dim(f"{counts['same']} same")
    terminal.say(terminal.line((2, "would"), (terminal.KIND, "   ".join([*marks, same]))))
    print_by_folder(found["artifacts"], _MOST_ARTIFACTS, at=10)
    _print_steps("there", found["steps"])
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(terminal.NAME),
            terminal.Column(terminal.DETAIL, wrap=True),
        )
    )
    for place, gate in enumerate(found["gates"]):
        met = terminal.dim("met") if gate["met"] else terminal.stops("not met")
        name = terminal.dim(gate["gate"]) if gate["met"] else terminal.bold(gate["gate"])
        listing.row("gates" if place == 0 else "", met, name, (gate["message"], terminal.dim if gate["met"] else str))
    listing.show()
    _print_what_is_missing(found)
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(10),
            terminal.Column(terminal.NAME, path=True),
            terminal.Column(terminal.DETAIL, wrap=True),
        )
    )
    for place, drift in enumerate(found["drift"]):
        who = f" by {drift['by']}" if drift["by"] else ""
        becomes = "would be lost" if drift["lost"] else "the tag has it" if drift["brought"] else "stays"
        said = f"{drift['where']}{who}; {becomes}"
        mark = terminal.tone("changed", "≠")
        listing.row("drift" if place == 0 else "", mark, (drift["name"], terminal.bold), said)
    listing.show()
    if found["expected_seconds"] is not None:
        terminal.say(terminal.line((2, "takes"), (terminal.KIND, f"about {found['expected_seconds']:.1f} s")))
    terminal.next_step(_next(found))


def _print_steps(head: str, steps: list[dict[str, Any]]) -> None:
    """What is done there beyond artifacts: created, altered, removed; what would be gone for good stands out."""
    marks = {"created": "added", "altered": "changed", "removed": "removed"}
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(10),
            terminal.Column(terminal.KIND),
            terminal.Column(terminal.NAME, path=True),
            terminal.Column(terminal.DETAIL, wrap=True),
        )
    )
    for place, step in enumerate(steps[: terminal.most(_MOST_STEPS)]):
        state = marks[step["action"]]
        mark = terminal.tone(state, terminal.GLYPHS[state])
        lost = f"{terminal.stops('lost')} " if step["lost"] else ""
        name = step["name"], terminal.bold
        listing.row(head if place == 0 else "", mark, step["what"], name, lost + step["message"])
    listing.show()
    terminal.say_left(steps, _MOST_STEPS)


def _print_what_is_missing(found: dict[str, Any]) -> None:
    """Bindings without a value, artifacts that are named and will not be there."""
    rows = [
        *(
            (m["name"], f"has no value there; {terminal.count(len(m['artifacts']), 'artifact')}")
            for m in found["missing_bindings"]
        ),
        *((p["path"], p["message"]) for p in found["problems"]),
    ]
    columns = (
        terminal.Column(2),
        terminal.Column(terminal.KIND),
        terminal.Column(terminal.NAME, path=True),
        terminal.Column(terminal.DETAIL, wrap=True),
    )
    listing = terminal.Listing(columns)
    for place, (name, said) in enumerate(rows):
        stops = terminal.stops("not met")
        listing.row("bindings" if place == 0 else "", stops, (name, terminal.bold), said)
    listing.show()
    listing = terminal.Listing(columns)
    needed = [need for need in found["needed"] if need["on_shelf"]]
    for place, need in enumerate(needed[: terminal.most(20)]):
        name = need["needs"], terminal.bold
        listing.row("needed" if place == 0 else "", "", name, f"needed by {need['artifact']}")
    listing.show()
    unknown = len({need["needs"] for need in found["needed"] if not need["on_shelf"]})
    if unknown:
        said = f"{terminal.count(unknown, 'reference')} not found on this shelf; see --json"
        terminal.say(terminal.line((2, "" if needed else "needed"), (terminal.KIND, terminal.dim(said))))


def _next(found: dict[str, Any]) -> str:
    """The one command that brings it on."""
    name, tag = found["environment"], f"tag:{found['tag']}"
    if found["missing_bindings"]:
        return f"everyshelf env bind {name} {found['missing_bindings'][0]['name']}=VALUE"
    held = [gate for gate in found["gates"] if not gate["met"]]
    if any(gate["action"] == "review" for gate in held):
        return f"everyshelf env review {tag} {name} --agree"
    earlier = next((g["action"].partition(":")[2] for g in held if g["action"].startswith("rehearse:")), "")
    if earlier:
        return f"everyshelf rehearse {tag} {earlier}"
    if any(d["lost"] for d in found["drift"]):
        return f"everyshelf drift {name} --capture"
    if held and all(gate["action"] == "lose" for gate in held):
        names = " ".join(f"--lose {shlex.quote(step['name'])}" for step in found["steps"] if step["lost"])
        return f"everyshelf promote {tag} {name} {names}"
    if any(gate["gate"].startswith("check ") for gate in held):
        return f"everyshelf check list --at {tag}"
    if held:
        return f"everyshelf env show {name}"
    return f"everyshelf promote {tag} {name}"


@click.command("promote")
@click.argument("tag", shell_complete=completing.tags)
@click.argument("environment", shell_complete=completing.environments)
@click.option("--reason", default="", metavar="TEXT", help="Reason, kept in the log.")
@click.option("--overwrite-drift", is_flag=True, help="Allow overwriting changes made directly in the environment.")
@click.option(
    "--lose",
    multiple=True,
    metavar="NAME",
    help="Allow permanent loss of this table, column or record set; may be repeated.",
)
@click.option("--force", is_flag=True, help="Promote although gates are not met. Owners only; needs --reason.")
@shelf_options
def promote(
    tag: str,
    environment: str,
    reason: str,
    overwrite_drift: bool,
    lose: tuple[str, ...],
    force: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Promote TAG to ENVIRONMENT. It is staged, switched atomically, read back and recorded."""
    shelf, _ = open_shelf(shelf_key, address)
    said: dict[str, Any] = {"reason": reason, "overwrite_drift": overwrite_drift, "lose": lose, "force": force}
    job = _waited(shelf, shelf.promote(tag, environment, **said), "Promoting")
    _said(
        job, f"{tag if tag.startswith('tag:') else f'tag:{tag}'} is now running in {environment}", environment, as_json
    )


@click.command("rollback")
@click.argument("environment", shell_complete=completing.environments)
@click.option(
    "--deployment", "to", type=click.IntRange(1), metavar="N", help="Return to deployment N; default: the previous one."
)
@click.option("--reason", default="", metavar="TEXT", help="Reason, kept in the log.")
@click.option("--overwrite-drift", is_flag=True, help="Allow overwriting changes made directly in the environment.")
@click.option(
    "--lose",
    multiple=True,
    metavar="NAME",
    help="Allow permanent loss of this table, column or record set; may be repeated.",
)
@shelf_options
def rollback(
    environment: str,
    to: int | None,
    reason: str,
    overwrite_drift: bool,
    lose: tuple[str, ...],
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Return ENVIRONMENT to an earlier deployment."""
    shelf, _ = open_shelf(shelf_key, address)
    agreed: dict[str, Any] = {"overwrite_drift": overwrite_drift, "lose": lose}
    job = _waited(shelf, shelf.roll_back(environment, to=to, reason=reason, **agreed), "Going back")
    current = next(e for e in shelf.environments() if e.name == environment).current
    _said(job, f"tag:{current.tag if current else ''} is running in {environment} again", environment, as_json)


def _waited(shelf: ShelfClient, job: Job, label: str) -> Job:
    with terminal.progress_bar(label) as progress:
        return shelf.wait(job, lambda found: progress(found.done, found.total, found.note))


def _said(job: Job, sentence: str, environment: str, as_json: bool) -> None:
    result = job.result or {}
    if as_json:
        terminal.print_json({**result, "environment": environment, "job": job.job})
        return
    counts = result.get("counts", {})
    terminal.say(terminal.bold(sentence) + f" (deployment {result.get('number')}).")
    marks = [
        terminal.tone(s, f"{terminal.GLYPHS[s]} {counts[s]} {s}")
        for s in ("added", "changed", "removed")
        if counts.get(s)
    ]
    marks.append(terminal.dim(f"{counts.get('same', 0)} same"))
    terminal.say(terminal.line((2, "deployed"), (terminal.KIND, "   ".join(marks))))
    _print_steps("done", result.get("steps", []))
    for place, path in enumerate(result.get("side_effects", [])):
        head = "also" if place == 0 else ""
        said = "changed automatically by the destination"
        terminal.say(terminal.line((2, head), (terminal.KIND, terminal.bold(path)), (terminal.DETAIL, said)))
    took = result.get("took_seconds")
    terminal.say(
        terminal.line(
            (2, "verified"),
            (
                terminal.KIND,
                f"{terminal.count(result.get('verified', 0), 'artifact')} read back"
                + (f", in {took:.1f} s" if took else ""),
            ),
        )
    )


@click.command("drift")
@click.argument("environment", shell_complete=completing.environments)
@click.option(
    "--branch",
    default="",
    help="Branch to compare with; default: the one that feeds it.",
    shell_complete=completing.branches,
)
@click.option("--capture", "wanted", is_flag=True, help="Capture these changes in your draft of that branch.")
@click.option(
    "--only", "paths", multiple=True, metavar="ARTIFACT", help="With --capture: only this artifact; may be repeated."
)
@click.option(
    "--prefer", type=click.Choice(["environment", "shelf"]), help="With --capture: for conflicts, keep this side."
)
@shelf_options
def drift(
    environment: str,
    branch: str,
    wanted: bool,
    paths: tuple[str, ...],
    prefer: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show changes made directly in ENVIRONMENT, or capture them in your draft."""
    if (paths or prefer) and not wanted:
        raise click.UsageError("--only and --prefer go with --capture")
    shelf, _ = open_shelf(shelf_key, address)
    if wanted:
        found = shelf.capture(environment, branch=branch, paths=list(paths) or None, prefer=prefer)
        print_capture(found, as_json)
        return
    shelf.look_for_drift(environment)
    found = shelf.drift(environment, branch)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(found["sentence"]))
    there = [row for row in found["artifacts"] if row["side"] != "shelf"]
    listing = terminal.artifact_listing()
    for row in there:
        mark = {"added there": "added", "removed there": "removed"}.get(row["where"], "changed")
        who = f", by {row['by']}" if row["by"] else ""
        side = environment if row["side"] == "environment" else row["side"]
        terminal.artifact_row(listing, mark, side, row["name"], f"{row['where']}{who}", word="")
    listing.show()
    newer = len(found["artifacts"]) - len(there)
    if newer:
        said = f"{terminal.count(newer, 'artifact')} newer on {found['branch']}: a promotion brings them there"
        terminal.say(terminal.line((2, " "), (terminal.KIND, terminal.dim(said))))
    if any(row["where"] != "tried from a draft" for row in there):
        terminal.next_step(f"everyshelf drift {environment} --capture")
    elif there:  # a promotion would take away what was tried there
        terminal.next_step("everyshelf draft list")


def print_capture(found: dict[str, Any], as_json: bool) -> None:
    """What was brought into the draft, side effects told apart, and what stayed out."""
    left = [row for row in found["artifacts"] if not row["taken"]]
    if as_json:
        terminal.print_json(found)
    else:
        taken = len(found["artifacts"]) - len(left)
        into = f" from {found['environment']} into your draft of {found['branch']}."
        terminal.say(terminal.bold(f"{terminal.count(taken, 'artifact')} captured") + into)
        listing = terminal.artifact_listing()
        for row in found["artifacts"]:
            said = "changed automatically by the destination" if row["side_effects"] else row["message"]
            mark = "gone" if row["message"] == "removed" else "new" if row["message"] == "added" else "edited"
            terminal.artifact_row(listing, mark if row["taken"] else "blocked", "", row["path"], said)
        listing.show()
        terminal.next_step(
            f"everyshelf drift {found['environment']} --capture --prefer environment"
            if left
            else "everyshelf draft list"
        )
    if left:
        raise click.exceptions.Exit(CONFLICT)

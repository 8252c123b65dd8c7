"""``env``, ``rehearse``, ``promote`` and ``rollback``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.errors import REFUSED
from everyshelf.cli.session import open_shelf, shelf_options

if TYPE_CHECKING:
    from everyshelf.client import Job, ShelfClient


@click.group("env")
def env() -> None:
    """List, make and look at environments."""


@env.command("list")
@shelf_options
def env_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Which tag runs where, and what waits."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.environments()
    if as_json:
        terminal.print_json(found)
        return
    route = " → ".join(e.name for e in found)
    terminal.say(terminal.bold(f"{terminal.count(len(found), 'environment')}") + (f": {route}." if found else "."))
    for e in found:
        runs = f"tag:{e.current.tag}" if e.current else "nothing yet"
        since = f"since {terminal.when(e.current.ended)}, by {e.current.who}" if e.current and e.current.ended else ""
        waits = f"tag:{e.waiting} waits" if e.waiting else ""
        terminal.say(terminal.line((2, terminal.bold(e.name)), (18, runs), (38, terminal.dim(since)), (72, waits)))
    waiting = next((e for e in found if e.waiting), None)
    if waiting is not None:
        terminal.next_step(f"everyshelf rehearse tag:{waiting.waiting} {waiting.name}")


@env.command("make")
@click.argument("name")
@click.option("--folder", default="", help="Folder it lives in; default: one below the service's data.")
@click.option("--position", type=click.IntRange(1, 99), help="Its place along the route; default: the end.")
@click.option("--fed-from", default="", metavar="BRANCH", help="Only tags on this branch may be promoted there.")
@click.option("--earlier-first", is_flag=True, help="Only tags that ran in the environment before it.")
@click.option("--note", default="", help="What it is for.")
@shelf_options
def env_make(
    name: str,
    folder: str,
    position: int | None,
    fed_from: str,
    earlier_first: bool,
    note: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Make the environment NAME, with a folder as its destination."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.make_environment(
        name, folder=folder, position=position, fed_from=fed_from, earlier_first=earlier_first, note=note
    )
    if as_json:
        terminal.print_json(made)
        return
    terminal.say(
        terminal.bold(f"Environment {name} stands") + f", place {made.position} on the route, in {made.folder}."
    )
    terminal.next_step(f"everyshelf rehearse tag:NAME {name}")


@env.command("show")
@click.argument("name")
@shelf_options
def env_show(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """What was put into the environment NAME, newest first."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.deployments(name)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(f"{terminal.count(len(found), 'deployment')} to {name}") + ".")
    for d in found:
        back = f"back to {d.rolled_back_to}" if d.rolled_back_to else ""
        terminal.say(
            terminal.line(
                (2, str(d.number)),
                (7, terminal.bold(f"tag:{d.tag}")),
                (27, d.state),
                (37, terminal.when(d.begun)),
                (50, d.who),
                (60, back),
                (72, terminal.dim(terminal.cut(d.why, 28))),
            )
        )


@env.command("remove")
@click.argument("name")
@shelf_options
def env_remove(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Forget the environment NAME, if nothing was ever put there."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.remove_environment(name)
    if as_json:
        terminal.print_json({"removed": name})
    else:
        terminal.say(f"Environment {name} is forgotten.")


@click.command("rehearse")
@click.argument("tag")
@click.argument("environment")
@shelf_options
def rehearse(tag: str, environment: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """What putting TAG into ENVIRONMENT would do; nothing is touched. Exit code 4 if a gate holds it."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.rehearse(tag, environment)
    if as_json:
        terminal.print_json(found)
    else:
        print_rehearsal(found)
    if found["holds"]:
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
    for artifact in found["artifacts"][:60]:
        mark = terminal.tone(artifact["state"], terminal.GLYPHS[artifact["state"]])
        name = terminal.bold(terminal.cut(artifact["name"], 21))
        effect = f"{terminal.effect('breaks')} " if artifact["effect"] == "breaks" else ""
        terminal.say(
            terminal.line(
                (10, mark),
                (terminal.KIND, artifact["kind"]),
                (terminal.NAME, name),
                (terminal.DETAIL, effect + terminal.cut(artifact["headline"], 46)),
            )
        )
    for place, gate in enumerate(found["gates"]):
        met = terminal.dim("met") if gate["met"] else terminal.stops("holds")
        name = terminal.dim(gate["gate"]) if gate["met"] else terminal.bold(gate["gate"])
        said = terminal.dim(gate["said"]) if gate["met"] else gate["said"]
        terminal.say(
            terminal.line(
                (2, "gates" if place == 0 else ""), (terminal.KIND, met), (terminal.NAME, name), (terminal.DETAIL, said)
            )
        )
    for place, drift in enumerate(found["drift"]):
        said = f"{drift['where']}; would be lost" if drift["lost"] else f"{drift['where']}, as the tag has it"
        terminal.say(
            terminal.line(
                (2, "drift" if place == 0 else ""),
                (10, terminal.tone("changed", "≠")),
                (terminal.NAME, terminal.bold(terminal.cut(drift["name"], 21))),
                (terminal.DETAIL, said),
            )
        )
    if not found["holds"] and any(counts[s] for s in ("added", "changed", "removed")):
        lost = " --overwrite-drift" if any(d["lost"] for d in found["drift"]) else ""
        terminal.next_step(f"everyshelf promote tag:{found['tag']} {found['environment']}{lost}")


@click.command("promote")
@click.argument("tag")
@click.argument("environment")
@click.option("--why", default="", help="Why, for the record.")
@click.option("--overwrite-drift", is_flag=True, help="Agree to lose what was changed there directly.")
@shelf_options
def promote(
    tag: str,
    environment: str,
    why: str,
    overwrite_drift: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Put TAG into ENVIRONMENT: staged, switched in one act, read back, recorded."""
    shelf, _ = open_shelf(shelf_key, address)
    job = _waited(shelf, shelf.promote(tag, environment, why=why, overwrite_drift=overwrite_drift), "Promoting")
    _said(job, f"{tag if tag.startswith('tag:') else f'tag:{tag}'} runs in {environment}", environment, as_json)


@click.command("rollback")
@click.argument("environment")
@click.option("--to", type=click.IntRange(1), help="Number of the deployment to go back to; default: the one before.")
@click.option("--why", default="", help="Why, for the record.")
@click.option("--overwrite-drift", is_flag=True, help="Agree to lose what was changed there directly.")
@shelf_options
def rollback(
    environment: str,
    to: int | None,
    why: str,
    overwrite_drift: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Put the deployment before the current one (or --to N) in place again."""
    shelf, _ = open_shelf(shelf_key, address)
    job = _waited(shelf, shelf.roll_back(environment, to=to, why=why, overwrite_drift=overwrite_drift), "Going back")
    current = next(e for e in shelf.environments() if e.name == environment).current
    _said(job, f"tag:{current.tag if current else ''} runs in {environment} again", environment, as_json)


def _waited(shelf: ShelfClient, job: Job, label: str) -> Job:
    with terminal.progress_bar(label) as progress:
        return shelf.wait(job, lambda found: progress(found.done, found.total, found.note))


def _said(job: Job, sentence: str, environment: str, as_json: bool) -> None:
    result = job.result or {}
    if as_json:
        terminal.print_json({**result, "environment": environment, "job": job.job})
        return
    counts = result.get("counts", {})
    terminal.say(terminal.bold(sentence) + f", deployment {result.get('number')}.")
    marks = [
        terminal.tone(s, f"{terminal.GLYPHS[s]} {counts[s]} {s}")
        for s in ("added", "changed", "removed")
        if counts.get(s)
    ]
    marks.append(terminal.dim(f"{counts.get('same', 0)} same"))
    terminal.say(terminal.line((2, "put"), (terminal.KIND, "   ".join(marks))))
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

"""``task``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, shelf_options
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.core.answers.tasks import TaskAnswer, TaskPage

_SHOWN = 30


@click.group("task", cls=Commands)
def task() -> None:
    """Show what was done for a task, and where that has come to."""


@task.command("list")
@click.option("--limit", type=click.IntRange(1, 200), default=50, show_default=True, help="Number to print.")
@shelf_options
def task_list(limit: int, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the tasks that commits are for, the one with the newest commit first."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.tasks(limit=limit)
    if as_json:
        terminal.print_json(found)
    else:
        _say_all(found)


def _say_all(found: TaskPage) -> None:
    count = terminal.count(len(found.items), "task")
    terminal.say(f"{terminal.bold(f'The newest {count}' if found.next else count)}.")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(16), terminal.Column(30), terminal.Column(46, text=True))
    )
    for one in found.items:
        commits = terminal.count(one.commits, "commit")
        listing.row((one.task, terminal.bold), commits, terminal.when(one.last), one.address)
    listing.show()
    if not found.pattern:
        terminal.say("  Tasks are found where --task names them. Find them in summaries, too:")
        terminal.next_step("everyshelf task change --pattern 'SK-[0-9]+'")
    elif found.items:
        terminal.next_step(f"everyshelf task show {found.items[0].task}")


@task.command("show")
@click.argument("name", metavar="TASK")
@shelf_options
def task_show(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Show the commits, artifacts and proposals of TASK, and which environments they have reached."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.task(name)
    if as_json:
        terminal.print_json(found)
        return
    _say(found)


def _say(found: TaskAnswer) -> None:
    counts = [terminal.count(found.total, "commit"), terminal.count(len(found.artifacts), "artifact")]
    if found.proposals:
        counts.append(terminal.count(len(found.proposals), "proposal"))
    terminal.say(f"{terminal.bold(found.task)}: {', '.join(counts)}.")
    if found.address:
        terminal.say(f"  {found.address}")
    reached = terminal.Listing((terminal.Column(2), terminal.Column(12), terminal.Column(28), terminal.Column(46)))
    for place in found.reached:
        much = "all" if place.commits == place.of else f"{place.commits} of {place.of}" if place.commits else "none"
        when = f"{place.tag}, {terminal.when(place.since)}" if place.since else ""
        reached.row("reached", (place.place, terminal.bold), much, when)
    reached.show()
    changed = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(terminal.NAME, path=True),
            terminal.Column(terminal.DETAIL, text=True),
        )
    )
    for one in found.artifacts[:_SHOWN]:
        times = f" ({terminal.count(one.versions, 'version')})" if one.versions > 1 else ""
        gone = "removed" if one.version is None else one.headline
        changed.row(terminal.effect(one.effect or "same"), one.kind, (one.path, terminal.bold), f"{gone}{times}")
    changed.show()
    terminal.say_left(found.artifacts, _SHOWN)
    for proposal in found.proposals:
        terminal.say(f"  proposal {proposal.number} ({proposal.state}): {proposal.title}")
    commits = terminal.Listing((terminal.Column(2), terminal.Column(12), terminal.Column(26), terminal.Column(38)))
    for commit in found.commits[:_SHOWN]:
        commits.row(commit.commit[:8], terminal.when(commit.recorded), commit.author, commit.summary)
    commits.show()


@task.command("change")
@click.option("--pattern", help="What the id of a task looks like, as a regular expression: SK-[0-9]+.")
@click.option("--kept-at", help="Where tasks are kept, with {task} for the id: https://HOST/tasks/{task}.")
@shelf_options
def task_change(
    pattern: str | None, kept_at: str | None, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Say how tasks are found in summaries and descriptions, and where they are kept."""
    if pattern is None and kept_at is None:
        raise click.UsageError("nothing to change: give --pattern or --kept-at.")
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.change_tasks(pattern=pattern, address=kept_at)
    if as_json:
        terminal.print_json(found)
    else:
        _say_all(found)

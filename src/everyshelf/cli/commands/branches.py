"""``branch``, ``merge`` and ``tag``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import Commands, shelf_options
from everyshelf.cli.reasons import reason_for
from everyshelf.cli.session import default_ref, open_shelf, take_command

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient


@click.group("branch", cls=Commands)
def branch() -> None:
    """List, make, guard and delete branches."""


@branch.command("list")
@click.option("--words", default="", help="Only those with these words in their names.")
@shelf_options
def branch_list(shelf_key: str | None, address: str | None, words: str, as_json: bool) -> None:
    """List branches with how far each is from the main one."""
    shelf, desk = open_shelf(shelf_key, address)
    found = shelf.branches(words)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(terminal.count(len(found), "branch", "branches")) + ".")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(8, path=True),
            terminal.Column(38),
            terminal.Column(48),
            terminal.Column(57),
            terminal.Column(76, text=True),
        )
    )
    apart = _apart_from_git(shelf)
    for b in found:
        here = "here" if desk and desk.home.branch == b.name else ""
        distance = "" if b.main else f"{b.ahead} ahead, {b.behind} behind"
        guarded = "guarded" if b.guarded else ""
        head = (b.head or "no commit")[: 9 if b.head is None else 8]
        listing.row(here, (b.name, terminal.bold), head, guarded, distance, (b.summary, terminal.dim))
        for line in apart.get(b.name, []):
            listing.under(f"        {line}")
    listing.show()


def _apart_from_git(shelf: ShelfClient) -> dict[str, list[str]]:
    """For each branch that is not in step with its other side in Git, that it is not."""
    found: dict[str, list[str]] = {}
    for link in shelf.git_links():
        for line in link.lines:
            if line.state != "in step":
                why = f": {line.why}" if line.why else ""
                found.setdefault(line.branch, []).append(f"{line.state}, Git link {link.name}{why}")
    return found


@branch.command("make")
@click.argument("name", default="")
@click.option(
    "--at", "start", metavar="REF", help="Start at this state; default: the desk's.", shell_complete=completing.refs
)
@click.option("--note", default="", help="What the branch is for.")
@shelf_options
def branch_make(
    name: str, start: str | None, note: str, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Make the branch NAME; nothing is copied, however large the shelf is.

    Without NAME it gets one that tells whose it is and, in the words of --note, what for.
    """
    if not name and not note:
        raise click.UsageError("name the branch, or say what it is for: --note TEXT")
    shelf, desk = open_shelf(shelf_key, address)
    made = shelf.make_branch(name, start or default_ref(desk) or "", note)
    if as_json:
        terminal.print_json(made)
        return
    at = made.head[:8] if made.head else "no commit yet"
    terminal.say(terminal.bold(f"Created branch {made.name}") + f" at {at}.")
    terminal.next_step(take_command(shelf.key, made.name.replace("/", "-"), made.name))


@branch.command("delete")
@click.argument("name", shell_complete=completing.branches)
@shelf_options
def branch_delete(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Delete the branch NAME. Its commits are kept."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.delete_branch(name)
    if as_json:
        terminal.print_json({"deleted": name})
    else:
        terminal.say(f"Branch {name} is deleted. Its commits are kept.")


@branch.command("guard")
@click.argument("name", shell_complete=completing.branches)
@click.option("--lift", is_flag=True, help="Remove the guard: authors may commit again.")
@shelf_options
def branch_guard(name: str, lift: bool, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Let only keepers commit to the branch NAME."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.guard_branch(name, not lift)
    if as_json:
        terminal.print_json(made)
    else:
        terminal.say(f"Branch {name} is {'guarded' if made.guarded else 'open to authors'}.")


@click.command("merge")
@click.argument("source", shell_complete=completing.branches)
@click.option(
    "--into", "target", help="Branch to merge into; default: the main branch.", shell_complete=completing.branches
)
@click.option(
    "--prefer",
    type=click.Choice(["target", "source"]),
    help="For conflicts: keep this side.",
)
@click.option("--delete", "delete_source", is_flag=True, help="Delete SOURCE after merging.")
@click.option("--summary", default="", help="Commit summary.")
@click.option("--anyway", is_flag=True, help="Merge although a proposal of SOURCE is open; needs --reason.")
@click.option("--reason", default="", metavar="TEXT", help="With --anyway: why.")
@shelf_options
def merge(
    source: str,
    target: str | None,
    prefer: str | None,
    delete_source: bool,
    summary: str,
    anyway: bool,
    reason: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Merge the branch SOURCE into another, by meaning. Conflicts wait on the server (exit code 3)."""
    shelf, _ = open_shelf(shelf_key, address)
    into = target or shelf.info().main_branch
    result = shelf.merge(
        source, into, prefer=prefer, delete_source=delete_source, summary=summary, reason=reason_for(anyway, reason)
    )
    if as_json:
        terminal.print_json(result)
        return
    if result.commit is None:
        terminal.say(terminal.bold("Nothing to merge") + f": {into} already contains all of {source}.")
    else:
        terminal.say(
            terminal.bold(f"{terminal.count(result.taken, 'artifact')} of {source} merged")
            + f", as {result.commit[:8]} on {into}."
        )
        if result.combined:
            terminal.say(f"  {terminal.count(result.combined, 'artifact')} changed on both sides: merged by meaning.")
    if delete_source:
        terminal.say(f"Branch {source} is deleted.")


@click.group("tag", cls=Commands)
def tag() -> None:
    """List and make tags."""


@tag.command("list")
@click.option("--words", default="", help="Only those with these words in their names.")
@shelf_options
def tag_list(shelf_key: str | None, address: str | None, words: str, as_json: bool) -> None:
    """List tags, newest first, with the environments they run or ran in."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.tags(words)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(terminal.count(len(found), "tag")) + ".")
    listing = terminal.Listing(
        (
            terminal.Column(2, path=True),
            terminal.Column(22),
            terminal.Column(32),
            terminal.Column(46),
            terminal.Column(56, text=True),
            terminal.Column(80, text=True),
        )
    )
    for t in found:
        cells = t.commit[:8], terminal.when(t.created), t.created_by, ", ".join(t.environments)
        listing.row((t.name, terminal.bold), *cells, (t.note, terminal.dim))
    listing.show()


@tag.command("make")
@click.argument("name")
@click.option(
    "--at", "ref", metavar="REF", help="State to tag; default: the desk's branch.", shell_complete=completing.refs
)
@click.option("--note", default="", help="What the tag is for.")
@click.option(
    "--only", "selection", multiple=True, metavar="PATH", help="Only this artifact or folder; may be repeated."
)
@shelf_options
def tag_make(
    name: str,
    ref: str | None,
    note: str,
    selection: tuple[str, ...],
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Make the tag NAME. Tags cannot be moved."""
    shelf, desk = open_shelf(shelf_key, address)
    made = shelf.make_tag(name, ref or default_ref(desk) or "", note, list(selection) or None)
    if as_json:
        terminal.print_json(made)
        return
    terminal.say(terminal.bold(f"Tagged {made.commit[:8]} as {name}") + ". Tags cannot be moved.")
    environments = shelf.environments()
    if environments:
        terminal.next_step(f"everyshelf rehearse tag:{name} {environments[0].name}")

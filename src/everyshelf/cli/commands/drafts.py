"""``draft``: changes kept on the server before they are committed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import Commands, json_option, shelf_options
from everyshelf.cli.session import get_desk, open_client, open_shelf

if TYPE_CHECKING:
    from everyshelf.client import Draft, ShelfClient
    from everyshelf.desk.desk import Desk

branch_option = click.option(
    "--branch",
    help="Branch of the draft; default: the desk's, else the main branch.",
    shell_complete=completing.branches,
)


@click.group("draft", cls=Commands)
def draft() -> None:
    """Manage your draft on the server: list, save, restore, discard, commit."""


def _branch(shelf: ShelfClient, desk: Desk | None, branch: str | None) -> str:
    return branch or (desk.home.branch if desk is not None else None) or shelf.info().main_branch


def _plain(value: Any) -> Any:
    import msgspec

    return msgspec.to_builtins(value)


def _print_draft(found: Draft) -> None:
    where = f"on {found.branch}" + (", which has newer commits" if found.behind else "")
    if not found.entries:
        terminal.say(terminal.bold("No pending changes") + f" {where}.")
        return
    saved = f", saved {terminal.when(found.saved)}" if found.saved else ""
    terminal.say(
        terminal.bold(f"{terminal.count(len(found.entries), 'pending change')} in your draft") + f" {where}{saved}."
    )
    for entry in found.entries:
        terminal.row(
            entry.state, f"point {entry.point}", entry.path, terminal.size(entry.size) if entry.content else ""
        )


@draft.command("list")
@shelf_options
def draft_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List your drafts that have pending changes."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.drafts()
    if as_json:
        terminal.print_json({"drafts": _plain(found)})
        return
    if not found:
        terminal.say(terminal.bold("No draft has pending changes") + ".")
        return
    for one in found:
        _print_draft(one)
    terminal.next_step(f'everyshelf draft commit --branch {found[0].branch} --summary "SUMMARY"')


@draft.command("save")
@click.argument("artifacts", nargs=-1, shell_complete=completing.pending)
@json_option
def draft_save(artifacts: tuple[str, ...], as_json: bool) -> None:
    """Save pending ARTIFACTS of this desk, or everything pending, in your draft."""
    desk = get_desk()
    shelf = open_client(None, desk).shelf(desk.home.shelf)
    with terminal.progress_bar("Sending") as progress:
        found = desk.save(shelf, desk.select(desk.pending(), artifacts), progress)
    if as_json:
        terminal.print_json(_plain(found))
    else:
        _print_draft(found)


@draft.command("points")
@click.argument("artifact", required=False)
@branch_option
@shelf_options
def draft_points(
    artifact: str | None, branch: str | None, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """List save points, newest first, and the commit each one went into."""
    shelf, desk = open_shelf(shelf_key, address)
    found = shelf.save_points(_branch(shelf, desk, branch), artifact or "")
    if as_json:
        terminal.print_json({"points": _plain(found)})
        return
    terminal.say(terminal.bold(terminal.count(len(found), "save point")) + ".")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(8),
            terminal.Column(19, path=True),
            terminal.Column(59, right=True),
            terminal.Column(70),
            terminal.Column(84),
        )
    )
    for point in found:
        taken = f"in {point.commit[:8]}" if point.commit else "not committed"
        size = terminal.size(point.size) if point.content else ""
        state = terminal.tone(point.state, point.state)
        listing.row(str(point.point), state, (point.path, terminal.bold), size, terminal.when(point.made), taken)
    listing.show()


@draft.command("restore")
@click.argument("point", type=click.IntRange(1))
@branch_option
@shelf_options
def draft_restore(point: int, branch: str | None, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Make save point POINT the current content of the draft again."""
    shelf, desk = open_shelf(shelf_key, address)
    found = shelf.restore_point(_branch(shelf, desk, branch), point)
    if as_json:
        terminal.print_json(_plain(found))
    else:
        _print_draft(found)


@draft.command("discard")
@click.argument("artifacts", nargs=-1, shell_complete=completing.pending)
@click.option("--all", "everything", is_flag=True, help="Discard everything pending.")
@branch_option
@shelf_options
def draft_discard(
    artifacts: tuple[str, ...],
    everything: bool,
    branch: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Discard pending ARTIFACTS. Their save points are kept and can be restored."""
    if not artifacts and not everything:
        raise click.UsageError("name the artifacts to discard, or give --all")
    shelf, desk = open_shelf(shelf_key, address)
    found = shelf.discard_draft(_branch(shelf, desk, branch), None if everything else list(artifacts))
    if as_json:
        terminal.print_json(_plain(found))
    else:
        _print_draft(found)


@draft.command("commit")
@click.argument("artifacts", nargs=-1, shell_complete=completing.pending)
@click.option("--summary", required=True, help="What changed, in one line.")
@click.option("--description", default="", help="Longer description.")
@click.option("--merge", is_flag=True, help="If the branch has newer commits, merge them with yours.")
@click.option(
    "--prefer",
    type=click.Choice(["target", "source"]),
    help="With --merge, for conflicts: keep the branch's side (target) or yours (source).",
)
@branch_option
@shelf_options
def draft_commit(
    artifacts: tuple[str, ...],
    summary: str,
    description: str,
    merge: bool,
    prefer: str | None,
    branch: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Commit pending ARTIFACTS of your draft, or everything pending in it."""
    shelf, desk = open_shelf(shelf_key, address)
    name = _branch(shelf, desk, branch)
    made = shelf.commit_draft(
        name, summary, list(artifacts) or None, description=description, merge=merge, prefer=prefer
    )
    if as_json:
        terminal.print_json(_plain(made))
    else:
        terminal.say(terminal.bold(f"Committed to {name}") + f" as {made.commit[:8]}: {summary}")

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


class _Days(click.ParamType[str]):
    """A number of days, or always."""

    name = "days"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Return the text as it is given."""
        if value != "always" and not str(value).isdecimal():
            self.fail(f"{value!r} is neither a number of days nor always", param, ctx)
        return value


DAYS = _Days()


@click.group("draft", cls=Commands)
def draft() -> None:
    """Manage your draft on the server: list, save, restore, discard, commit; and how long drafts are kept."""


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
    saved += f", kept until {terminal.when(found.until)}" if found.until else ""
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


@draft.command("keeping")
@click.option("--save-points", type=DAYS, help="Keep save points that no longer count for DAYS, or always.")
@click.option("--drafts", type=DAYS, help="Keep pending changes for DAYS after their draft was last saved, or always.")
@shelf_options
def draft_keeping(
    save_points: str | None, drafts: str | None, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Show or change how long this shelf keeps save points and drafts.

    A save point no longer counts once its artifact was saved again, committed or discarded. Pending changes whose time
    is over are discarded; their save points can still be restored as long as those are kept.
    """
    shelf, _ = open_shelf(shelf_key, address)
    wanted = {name: days for name, days in (("save_points", save_points), ("drafts", drafts)) if days is not None}
    if wanted:
        found = shelf.change_draft_keeping(**{n: None if d == "always" else int(d) for n, d in wanted.items()})
    else:
        found = shelf.draft_keeping()
    if as_json:
        terminal.print_json(_plain(found))
        return
    terminal.labelled("save points", _kept(found.save_points, "after they no longer count"))
    terminal.labelled("drafts", _kept(found.drafts, "after they were last saved"))
    if found.due_points or found.due_changes:
        points = terminal.count(found.due_points, "save point")
        changes = terminal.count(found.due_changes, "pending change")
        terminal.labelled("next hour", f"{points} removed, {changes} discarded")


def _kept(days: int | None, since: str) -> str:
    return f"kept for {terminal.count(days, 'day')} {since}" if days is not None else "kept as long as the shelf"


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

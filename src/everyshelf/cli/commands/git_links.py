"""``git-link``."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.clones import fill_notes, shelf_of_clone
from everyshelf.cli.options import Commands, read_if_dash, shelf_options
from everyshelf.cli.session import open_client, open_shelf

if TYPE_CHECKING:
    from everyshelf.client import Job, ShelfClient
    from everyshelf.core.answers.exchange import GitLinkAnswer

_WAYS = {"send": "sends", "fetch": "fetches", "both": "both ways"}


@click.group("git-link", cls=Commands)
def git_link() -> None:
    """Join a shelf to Git repositories: send, fetch, or keep both in step."""


def _settings(function: Any) -> Any:
    """What is said of a link."""
    for option in reversed(
        (
            click.option("--user", help="User the server knows; default: everyshelf."),
            click.option("--token", help="Token or password of that user; - reads it from standard input."),
            click.option(
                "--key-file",
                type=click.Path(exists=True, dir_okay=False, path_type=Path),
                help="Private key for SSH; it is kept sealed.",
            ),
            click.option(
                "--known-hosts",
                type=click.Path(exists=True, dir_okay=False, path_type=Path),
                help="File with the server's own keys, as ssh-keyscan writes it.",
            ),
            click.option("--way", type=click.Choice(list(_WAYS)), help="Which way commits go; default: both."),
            click.option(
                "--branch",
                "branches",
                multiple=True,
                help="Branch to join, HERE or HERE=THERE; may be repeated; default: all.",
            ),
            click.option("--tags/--no-tags", default=None, help="Whether tags go too; default: they do."),
            click.option(
                "--parts",
                type=click.Choice(["beside", "instead", "none"]),
                help="Unfold apps, tests, notebooks … there, beside each file or instead of it; default: none.",
            ),
            click.option(
                "--every", "every_seconds", type=click.IntRange(10), help="Seconds between looks of a follower."
            ),
        )
    ):
        function = option(function)
    return function


def _said(
    user: str | None,
    token: str | None,
    key_file: Path | None,
    known_hosts: Path | None,
    way: str | None,
    branches: tuple[str, ...],
    tags: bool | None,
    parts: str | None,
    every_seconds: int | None,
) -> dict[str, Any]:
    pairs = [(here, there or here) for here, _, there in (one.partition("=") for one in branches)]
    return {
        "user": user,
        "token": read_if_dash(token),
        "key": key_file.read_text() if key_file is not None else None,
        "known_hosts": known_hosts.read_text() if known_hosts is not None else None,
        "way": way,
        "joins": pairs or None,
        "tags": tags,
        "parts": parts,
        "every_seconds": every_seconds,
    }


@git_link.command("list")
@shelf_options
def git_link_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the links of a shelf, with how far the two sides are from each other."""
    shelf, desk = open_shelf(shelf_key, address)
    found = shelf.git_links()
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(f"{terminal.bold(terminal.count(len(found), 'Git link'))}.")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(24),
            terminal.Column(44, text=True),
        )
    )
    for one in found:
        follows = ", follows" if one.follows else ""
        listing.row(_apart(one), (one.name, terminal.bold), f"{_WAYS[one.way]}{follows}", one.address)
        if one.problem is not None:
            listing.under(f"  {' ' * 4}{one.problem.detail}")
    listing.show()
    person = open_client(address, desk).person() or ""
    terminal.say(f"This shelf is a repository, too: git clone {shelf.git_address(person)}")
    if found:
        terminal.next_step(f"everyshelf git-link show {found[0].name}")
    else:
        terminal.next_step("everyshelf git-link make NAME ADDRESS")


@git_link.command("make")
@click.argument("name")
@click.argument("repository")
@_settings
@click.option("--folder", help="Only this folder or artifact of the shelf; default: all of it.")
@click.option("--place", help="With --folder: where it is in the repository; default: a folder is its root.")
@click.option("--follow", is_flag=True, help="Keep both sides in step from now on.")
@shelf_options
def git_link_make(
    name: str,
    repository: str,
    folder: str | None,
    place: str | None,
    follow: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
    **given: Any,
) -> None:
    """Make the link NAME to REPOSITORY (https://…, ssh://… or a folder), try it, and say what it would do."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.make_git_link(name, repository, folder=folder, place=place, **_said(**given))
    try:
        tried = shelf.test_git_link(name)
    except Exception:
        shelf.remove_git_link(name)
        raise
    if follow:
        made = shelf.change_git_link(name, follows=True)
    if as_json:
        terminal.print_json({"link": made, "tried": tried})
        return
    part = f" of {made.folder}" if made.folder else ""
    terminal.say(f"{terminal.bold(f'Made the link {name}')}{part} to {made.address}: {_WAYS[made.way]}.")
    _say_tried(tried)
    if follow:
        terminal.say("  It follows: both sides are kept in step.")
    else:
        act = "send" if made.way == "send" or not tried.would_fetch else "fetch"
        terminal.next_step(f"everyshelf git-link {act} {name}")


@git_link.command("show")
@click.argument("name")
@shelf_options
def git_link_show(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Show the link NAME: each branch, and what went over it."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.git_link(name)
    if as_json:
        terminal.print_json(found)
        return
    _say_link(found.link)
    if found.transfers:
        terminal.say("")
        listing = terminal.Listing(
            (
                terminal.Column(2),
                terminal.Column(2),
                terminal.Column(2),
                terminal.Column(2),
                terminal.Column(terminal.DETAIL, text=True),
            )
        )
        for one in found.transfers[:20]:
            way = "fetched" if one.fetched else "sent"
            listing.row(terminal.when(one.at), way, one.commit[:8], one.git[:8], one.summary)
        listing.show()


@git_link.command("change")
@click.argument("name")
@click.option("--repository", "repository", help="New address of the repository.")
@_settings
@shelf_options
def git_link_change(
    name: str, repository: str | None, shelf_key: str | None, address: str | None, as_json: bool, **given: Any
) -> None:
    """Change the link NAME; what was sent and fetched stays known."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.change_git_link(name, address=repository, **_said(**given))
    if as_json:
        terminal.print_json(made)
    else:
        _say_link(made)
        terminal.next_step(f"everyshelf git-link test {name}")


@git_link.command("test")
@click.argument("name")
@shelf_options
def git_link_test(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Reach the repository of the link NAME, and say what it would do. Nothing moves."""
    shelf, _ = open_shelf(shelf_key, address)
    tried = shelf.test_git_link(name)
    if as_json:
        terminal.print_json(tried)
    else:
        terminal.say(f"{terminal.bold(name)} can be reached.")
        _say_tried(tried)


@git_link.command("send")
@click.argument("name")
@shelf_options
def git_link_send(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Send what the repository of the link NAME lacks. Nothing there is overwritten."""
    shelf, _ = open_shelf(shelf_key, address)
    _worked(shelf, name, shelf.send_git_link(name), "Sending", as_json=as_json)


@git_link.command("fetch")
@click.argument("name")
@shelf_options
def git_link_fetch(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Fetch what the shelf lacks over the link NAME; what both sides changed is merged by meaning."""
    shelf, _ = open_shelf(shelf_key, address)
    _worked(shelf, name, shelf.fetch_git_link(name), "Fetching", as_json=as_json)


@git_link.command("follow")
@click.argument("name")
@click.option("--stop", is_flag=True, help="Follow no longer.")
@click.option("--calls", is_flag=True, help="Let the other side say when it has something new; prints how.")
@shelf_options
def git_link_follow(
    name: str, stop: bool, calls: bool, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Keep both sides of the link NAME in step from now on."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.change_git_link(name, follows=not stop)
    how = shelf.let_git_link_be_called(name) if calls else None
    if as_json:
        terminal.print_json({"link": made, "calls": how} if calls else made)
    elif stop:
        terminal.say(f"{terminal.bold(name)} follows no longer.")
    else:
        terminal.say(f"{terminal.bold(name)} follows: after each commit here, and every {made.every_seconds} seconds.")
        if how is not None:
            terminal.say("  The other side may call this address when it has something new (a webhook of its server):")
            terminal.say(f"    {how.address}")
            terminal.say(f"    secret {how.secret}")


@git_link.command("remove")
@click.argument("name")
@shelf_options
def git_link_remove(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Remove the link NAME. Nothing changes on either side."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.remove_git_link(name)
    if as_json:
        terminal.print_json({"removed": name})
    else:
        terminal.say(f"Removed the link {name}. Nothing changed on either side.")


@git_link.command("fill")
@click.argument("folder", type=click.Path(exists=True, file_okay=False, path_type=Path), default=".")
@shelf_options
def git_link_fill(folder: Path, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Put the real bytes in place of content notes in FOLDER, a clone of a shelf."""
    shelf, _ = shelf_of_clone(folder, shelf_key, address)
    filled = list(fill_notes(shelf, folder))
    if as_json:
        terminal.print_json([{"path": one.path, "size": one.size} for one in filled])
        return
    terminal.say(f"Filled {terminal.bold(terminal.count(len(filled), 'content note'))}.")
    for one in filled:
        terminal.say(f"  {one.path}, {terminal.size(one.size)}")


def _worked(shelf: ShelfClient, name: str, job: Job, label: str, *, as_json: bool) -> None:
    with terminal.progress_bar(label) as progress:
        shelf.wait(job, lambda found: progress(found.done, found.total, found.note))
    found = shelf.git_link(name)
    if as_json:
        terminal.print_json(found)
    else:
        _say_link(found.link)
    if any(line.merge for line in found.link.lines):
        sys.exit(3)
    if found.link.state == "refused":
        sys.exit(4)
    if any(line.state == "diverged" for line in found.link.lines):
        sys.exit(1)  # both sides went on: what was to go there did not


def _apart(link: GitLinkAnswer) -> str:
    ahead, behind = (sum(getattr(line, side) for line in link.lines) for side in ("ahead", "behind"))
    if link.state == "ahead":
        return f"ahead {ahead}"
    return f"behind {behind}" if link.state == "behind" and behind else link.state


def _say_link(link: GitLinkAnswer) -> None:
    since = f" since {terminal.when(link.since)}" if link.since is not None else ""
    terminal.say(f"{terminal.bold(link.name)}: {_apart(link)}{since}. {_WAYS[link.way].capitalize()}, {link.address}")
    if link.folder:
        place = f", in {link.place} there" if link.place else ""
        terminal.say(f"  only {link.folder}{place}; without tags")
    if link.parts != "none":
        terminal.say(f"  parts of files lie {link.parts} {'of them' if link.parts == 'instead' else 'them'}")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(terminal.KIND), terminal.Column(terminal.DETAIL, text=True))
    )
    for line in link.lines:
        count = {"ahead": line.ahead, "behind": line.behind}.get(line.state, 0)
        apart = f"{line.state} {count}" if count else line.state
        names = line.branch if line.branch == line.git else f"{line.branch} and {line.git}"
        listing.row(apart, (names, terminal.bold), line.why)
    listing.show()
    if link.problem is not None and not any(line.why for line in link.lines):
        terminal.say(f"  {link.problem.detail}")
    waits = next((line.merge for line in link.lines if line.merge), "")
    if waits:
        terminal.next_step(f"everyshelf settle --merge {waits}")
    elif link.problem is not None and link.problem.hint:
        terminal.say(f"  {link.problem.hint}")


def _say_tried(tried: Any) -> None:
    branches = terminal.count(len(tried.branches_there), "branch", "branches")
    terminal.say(f"  It has {branches} and {terminal.count(tried.tags, 'tag')}.")
    would = [
        f"{verb} {terminal.count(count, 'commit')}"
        for verb, count in (("fetch", tried.would_fetch), ("send", tried.would_send))
        if count
    ]
    terminal.say(f"  The link would {' and '.join(would) or 'move nothing'}.")
    if tried.odd_names:
        terminal.say(f"  A shelf cannot have these names, so they stay there: {', '.join(tried.odd_names[:5])}.")

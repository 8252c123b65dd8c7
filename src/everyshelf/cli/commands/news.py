"""``news`` and ``follow``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import shelf_options
from everyshelf.cli.session import open_client, open_shelf
from everyshelf.core.answers.news import MOST_COUNTED

if TYPE_CHECKING:
    from everyshelf.core.answers.news import FollowedThing, News


@click.command("news")
@click.option("--all-shelves", is_flag=True, help="Of every shelf that has news, the newest five.")
@click.option("--followed", is_flag=True, help="Only about what you follow.")
@click.option("--seen-too", is_flag=True, help="Also what you have seen.")
@click.option("--limit", type=click.IntRange(1, 200), default=30, show_default=True, help="Number to print.")
@click.option("--keep", is_flag=True, help="Print them and keep them new.")
@shelf_options
def news(
    all_shelves: bool,
    followed: bool,
    seen_too: bool,
    limit: int,
    keep: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show what others did on the shelf since you last looked.

    What was printed counts as seen, if it was all of it and --keep was not given.
    """
    if all_shelves:
        if followed or seen_too or keep:
            raise click.UsageError("--all-shelves shows the newest of each shelf, and goes with no other option")
        everywhere = open_client(address).news()
        if as_json:
            terminal.print_json(everywhere)
            return
        for one in everywhere:
            _say(one)
        if not everywhere:
            terminal.say("Nothing new on your shelves.")
        return
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.news(limit=limit, followed=followed, seen_too=seen_too)
    if as_json:
        terminal.print_json(found)
    else:
        asked = [name for name, is_on in (("--followed", followed), ("--seen-too", seen_too)) if is_on]
        _say(found, *asked)
    if found.count and not keep and not followed and found.next is None:
        shelf.look(found.newest)


def _say(found: News, *asked: str) -> None:
    since = f"since you looked, {terminal.when(found.since)}" if found.since else "in the last two weeks"
    much = "nothing" if not found.count else f"{found.count}{' or more' if found.count >= MOST_COUNTED else ''}"
    terminal.say(f"{terminal.bold(found.shelf_name)}: {much} new {since}.")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(14), terminal.Column(12), terminal.Column(60, text=True))
    )
    for item in found.items:
        mark = "●" if item.follows else " "
        about = f"  (you follow {', '.join(item.follows)})" if item.follows else ""
        where = f" on {item.branch}" if item.act == "commit.made" and item.branch else ""
        did = f"{item.words} {item.subject}{where}{about}"
        listing.row(f"{mark} {terminal.when(item.time)}", (item.person, terminal.bold), did)
    listing.show()
    if found.next is not None:
        terminal.next_step(" ".join(("everyshelf news --shelf", found.shelf, *asked, "--limit 200")))


@click.command("follow")
@click.argument("artifacts", nargs=-1)
@click.option("--branch", "branches", multiple=True, help="A branch to follow; may be repeated.")
@click.option("--stop", is_flag=True, help="Follow them no longer.")
@shelf_options
def follow(
    artifacts: tuple[str, ...],
    branches: tuple[str, ...],
    stop: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Follow ARTIFACTS and branches, or list what you follow.

    An artifact is followed under whatever path it comes to have.
    """
    shelf, _ = open_shelf(shelf_key, address)
    act = shelf.stop_following if stop else shelf.follow
    for path in artifacts:
        act(path)
    for name in branches:
        act(branch=name)
    found = shelf.followed()
    if as_json:
        terminal.print_json(found)
    else:
        _say_followed(found)


def _say_followed(found: list[FollowedThing]) -> None:
    if not found:
        terminal.say("You follow nothing on this shelf.")
        terminal.next_step("everyshelf follow ARTIFACT")
        return
    terminal.say(f"You follow {terminal.count(len(found), 'thing')} on this shelf.")
    listing = terminal.Listing((terminal.Column(2), terminal.Column(10), terminal.Column(40, text=True)))
    for one in found:
        listing.row("branch" if one.branch else "artifact", one.branch or one.artifact or "", terminal.when(one.since))
    listing.show()

"""``member`` and ``log``."""

from __future__ import annotations

import itertools

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, json_option, shelf_options
from everyshelf.cli.session import open_client, open_shelf

ROLES = ("reader", "author", "keeper", "owner")


@click.group("member", cls=Commands)
def member() -> None:
    """Manage roles on a shelf and invite people."""


@member.command("list")
@shelf_options
def member_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the people who have a role on the shelf."""
    shelf, _ = open_shelf(shelf_key, address)
    found, info = shelf.members(), shelf.info()
    if as_json:
        terminal.print_json(found)
        return
    seen = "all signed-in users can read this shelf" if info.open_to_all else "private: only members can see this shelf"
    people = terminal.count(len(found), "person has a role", "people have a role")
    terminal.say(terminal.bold(f"{people} on {info.name}") + f"; {seen}.")
    for one in found:
        terminal.say(terminal.line((2, one.role), (terminal.KIND, terminal.bold(one.person)), (33, one.full_name)))


@member.command("set")
@click.argument("person")
@click.argument("role", type=click.Choice(ROLES))
@shelf_options
def member_set(person: str, role: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Set the role of PERSON to ROLE."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.set_member(person, role)
    if as_json:
        terminal.print_json(made)
    else:
        terminal.say(terminal.bold(f"{made.full_name} is {made.role}") + f" on {shelf.key} now.")


@member.command("remove")
@click.argument("person")
@shelf_options
def member_remove(person: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Remove PERSON from the shelf (or yourself)."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.remove_member(person)
    if as_json:
        terminal.print_json({"removed": person})
    else:
        terminal.say(f"{person} has no role on {shelf.key} any more. What they did stays in the log.")


@member.command("invite")
@click.option(
    "--role", type=click.Choice(ROLES), default="reader", show_default=True, help="Role that the invitation gives."
)
@click.option("--for", "note", default="", help="Recipient (a note for yourself).")
@click.option("--days", type=click.IntRange(1, 60), default=7, show_default=True, help="How long it is valid.")
@shelf_options
def member_invite(role: str, note: str, days: int, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Create an invitation link. It can be used once, by whoever has it."""
    shelf, desk = open_shelf(shelf_key, address)
    made = shelf.invite(role, note, days)
    where = open_client(address, desk).address
    if as_json:
        terminal.print_json({"invitation": made, "link": f"{where}/join#{made.value}"})
        return
    terminal.say(
        terminal.bold(f"Invitation link for the role {role} on {shelf.key}") + f". Valid {days} days, one use."
    )
    terminal.say(f"  {where}/join#{made.value}")
    terminal.say(terminal.dim("It is not shown again. Send it to the person you invite."))
    terminal.say(terminal.dim(f"To cancel it: everyshelf member withdraw {made.id}"))


@member.command("invitations")
@shelf_options
def member_invitations(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List invitations and who accepted them."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.invitations()
    if as_json:
        terminal.print_json(found)
        return
    waiting = sum(i.state == "open" for i in found)
    terminal.say(terminal.bold(terminal.count(len(found), "invitation")) + f", {waiting or 'none'} open.")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(27),
            terminal.Column(36, text=True),
            terminal.Column(62, wrap=True),
        )
    )
    for one in found:
        by = f"accepted by {one.accepted_by}" if one.accepted_by else f"until {terminal.when(one.expires)}"
        listing.row(one.state, one.id, one.role, (one.note or "anyone", terminal.bold), f"by {one.created_by}, {by}")
    listing.show()


@member.command("withdraw")
@click.argument("invitation")
@shelf_options
def member_withdraw(invitation: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Withdraw INVITATION (its id)."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.withdraw_invitation(invitation)
    if as_json:
        terminal.print_json({"withdrawn": invitation})
    else:
        terminal.say(f"Invitation {invitation} withdrawn.")


@click.command("log")
@click.option("--person", default="", help="Only entries of this person.")
@click.option("--about", "act", default="", help="Only entries about one thing: branch, tag, commit, member, token …")
@click.option("--limit", type=click.IntRange(1), default=30, show_default=True, help="Number of entries to print.")
@click.option("--mine", is_flag=True, help="Your own entries on every shelf, with sign-ins and tokens.")
@click.option("--shelf", "shelf_key", help="Key of the shelf; default: the desk's.")
@click.option("--address", help="Address of the service.")
@json_option
def log(
    person: str, act: str, limit: int, mine: bool, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Show who did what, newest first. Entries are never deleted."""
    if mine:
        entries = open_client(address).log(person=person, act=act, limit=limit + 1)
    else:
        entries = open_shelf(shelf_key, address)[0].log(person=person, act=act, limit=limit + 1)
    found = list(itertools.islice(entries, limit + 1))
    more, found = len(found) > limit, found[:limit]
    if as_json:
        terminal.print_json(found)
        return
    shown = terminal.count(len(found), "entry", "entries")
    terminal.say(terminal.bold(f"The newest {shown}" if more else shown) + ".")
    listing = terminal.Listing((terminal.Column(2), terminal.Column(16), terminal.Column(26, wrap=True)))
    for one in found:
        via = terminal.dim(f" ({one.via})") if one.via else ""
        words = f"{one.words} {terminal.bold(one.subject)}" if one.subject else one.words
        listing.row(terminal.when(one.time), one.person, words + via)
    listing.show()

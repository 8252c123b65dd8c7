"""``admin``: accounts of an installation, over the service or, with ``--data``, on its own machine."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, json_option
from everyshelf.cli.session import open_client
from everyshelf.client.models import Location

_DATA = click.option(
    "--data",
    type=click.Path(file_okay=False, exists=True, path_type=Path),
    help="On the machine of the service: its data folder. Needs no account, and works while it runs.",
)
_ADDRESS = click.option("--address", help="Address of the service.")


@click.group("admin", cls=Commands)
def admin() -> None:
    """List accounts, reset passwords, disable people, end sessions.

    Works as an administrator of the service (connect with --scope admin), or with --data on the machine it runs on.
    """


@admin.command("people")
@_ADDRESS
@json_option
def people(address: str | None, as_json: bool) -> None:
    """List every account."""
    accounts = open_client(address).accounts()
    if as_json:
        terminal.print_json(accounts)
        return
    off = sum(not a.active for a in accounts)
    disabled = f", {off} of them disabled" if off else ""
    terminal.say(terminal.bold(terminal.count(len(accounts), "account")) + f"{disabled}.")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(17), terminal.Column(37, text=True), terminal.Column(63))
    )
    for one in accounts:
        state = "disabled" if not one.active else "administrator" if one.admin else "active"
        seen = f"signed in {terminal.when(one.last_signed_in)}" if one.last_signed_in else "never signed in here"
        listing.row(state, (one.name, terminal.bold), one.full_name, seen)
    listing.show()


@admin.command("password")
@click.argument("person", required=False)
@click.option("--new", "asked", is_flag=True, help="Ask for the new password; without it a random one is made.")
@_DATA
@_ADDRESS
@json_option
def password(person: str | None, asked: bool, data: Path | None, address: str | None, as_json: bool) -> None:
    """Reset the password of PERSON and end their sessions. Without PERSON: change your own."""
    if person is None:
        _change_own(address, as_json)
        return
    new = _asked() if asked else ""
    if data is not None:
        made = _on_machine(data).reset_password_here(person, new)
    else:
        made = open_client(address).reset_password(person, new)
    if as_json:
        terminal.print_json({"person": person, "password": made if not asked else None})
        return
    terminal.say(terminal.bold(f"{person} has a new password") + "; their sessions ended.")
    if not asked:
        terminal.say(f"  {made}")
        terminal.say(terminal.dim("It is not shown again."))


def _change_own(address: str | None, as_json: bool) -> None:
    client = open_client(address)
    old = os.environ.get("EVERYSHELF_PASSWORD") or click.prompt("Password now", hide_input=True, err=True)
    client.change_password(str(old), _asked())
    if as_json:
        terminal.print_json({"changed": True})
    else:
        terminal.say("Your password is changed; all other sessions ended. Tokens go on: everyshelf token list")


def _asked() -> str:
    given = os.environ.get("EVERYSHELF_NEW_PASSWORD")
    return given or str(click.prompt("New password", hide_input=True, confirmation_prompt=True, err=True))


@admin.command("disable")
@click.argument("person")
@_ADDRESS
@json_option
def disable(person: str, address: str | None, as_json: bool) -> None:
    """Disable PERSON: they cannot sign in, and their sessions, tokens and invitations stop working at once."""
    _set_active(person, False, address, as_json)


@admin.command("enable")
@click.argument("person")
@_ADDRESS
@json_option
def enable(person: str, address: str | None, as_json: bool) -> None:
    """Enable PERSON again."""
    _set_active(person, True, address, as_json)


def _set_active(person: str, active: bool, address: str | None, as_json: bool) -> None:
    account = open_client(address).set_active(person, active)
    if as_json:
        terminal.print_json(account)
    elif active:
        terminal.say(terminal.bold(f"{person} can sign in again") + ".")
    else:
        terminal.say(terminal.bold(f"{person} is disabled") + "; what they did and their roles stay.")


@admin.command("end-sessions")
@click.argument("person")
@_ADDRESS
@json_option
def end_sessions(person: str, address: str | None, as_json: bool) -> None:
    """End all sessions of PERSON in browsers; you may end your own."""
    ended = open_client(address).end_sessions(person)
    if as_json:
        terminal.print_json({"person": person, "ended": ended})
    else:
        terminal.say(terminal.bold(f"{terminal.count(ended, 'session')} of {person} ended") + ".")


@admin.command("locations")
@_ADDRESS
@json_option
def locations(address: str | None, as_json: bool) -> None:
    """List the folders, repositories, databases and servers that shelves use."""
    _print_locations(open_client(address).locations(), as_json)


@admin.command("share-location")
@click.argument("location")
@click.argument("shelf")
@click.option("--stop", is_flag=True, help="Stop sharing it with SHELF.")
@_ADDRESS
@json_option
def share_location(location: str, shelf: str, stop: bool, address: str | None, as_json: bool) -> None:
    """Let SHELF use LOCATION, which another shelf has, for Git links and data in place.

    LOCATION belongs to the shelf that took it first. Environments are never shared.
    """
    client = open_client(address)
    found = client.unshare_location(location, shelf) if stop else client.share_location(location, shelf)
    _print_locations([one for one in found if one.address == location], as_json)


def _print_locations(found: list[Location], as_json: bool) -> None:
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(terminal.count(len(found), "location")) + " in use.")
    columns = (terminal.Column(2), terminal.Column(15), terminal.Column(35), terminal.Column(60, text=True))
    listing = terminal.Listing(columns)
    for one in found:
        shared = f"shared with {', '.join(one.shared_with)}" if one.shared_with else ""
        listing.row(one.use, (one.shelf, terminal.bold), shared, one.address)
    listing.show()


def _on_machine(data: Path) -> Any:
    """The use cases themselves, on a data folder of this machine."""
    os.environ["EVERYSHELF_DATA"] = str(data.absolute())
    from everyshelf.service.serve import accounts_here

    return accounts_here()

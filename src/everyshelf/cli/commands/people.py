"""``connect`` and ``token``."""

from __future__ import annotations

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, json_option
from everyshelf.cli.session import new_client, open_client, take_command

SCOPES = ("read", "write", "promote", "admin", "import")
USUAL = ("read", "write")


@click.command("connect")
@click.argument("address")
@click.option("--name", help="Name to sign in with; asked for if left out.")
@click.option(
    "--password",
    help="Password; better left out and typed, or set in EVERYSHELF_PASSWORD.",
    envvar="EVERYSHELF_PASSWORD",
)
@click.option("--token", help="Use this token instead of a name and password.", envvar="EVERYSHELF_TOKEN")
@click.option("--invitation", help="Accept this invitation. With a new name, the password you enter becomes yours.")
@click.option(
    "--days", type=click.IntRange(1, 3650), default=90, show_default=True, help="How long the token is valid."
)
@click.option(
    "--scope",
    "more",
    multiple=True,
    type=click.Choice([s for s in SCOPES if s not in USUAL]),
    help="Scope in addition to read and write; may be repeated.",
)
@json_option
def connect(
    address: str,
    name: str | None,
    password: str | None,
    token: str | None,
    invitation: str | None,
    days: int,
    more: tuple[str, ...],
    as_json: bool,
) -> None:
    """Sign in to the service at ADDRESS and remember it on this machine.

    A token is made that may read and write, for 90 days; a new one takes its place with the next connect. To promote
    or to administer from here, ask for it: --scope promote, --scope admin.
    """
    import platform

    made = ""
    address = address.rstrip("/") if "://" in address else f"http://{address}".rstrip("/")
    if not token:
        name = name or click.prompt("Name", err=True)
        password = password or click.prompt("Password", hide_input=True, err=True)
        scopes = [*USUAL, *more]
        token = _signed_in(address, str(name), str(password), platform.node(), days, scopes, invitation)
        made = f"Made a token for this machine that can {', '.join(scopes)}; valid for {days} days."
    with new_client(address, token) as client:
        shelves = client.shelves()
        person = client.person()
    from everyshelf.client.known import remember

    remember(address, token)
    if as_json:
        terminal.print_json({"address": address, "person": person, "shelves": [s.key for s in shelves]})
        return
    seen = terminal.count(len(shelves), "shelf", "shelves")
    terminal.say(terminal.bold(f"Connected to {address} as {person}") + f". You have access to {seen}.")
    if made:
        terminal.say(f"  {made}")
    terminal.next_step(take_command(shelves[0].key) if shelves else "everyshelf shelf make NAME")


def _signed_in(
    address: str, name: str, password: str, machine: str, days: int, scopes: list[str], invitation: str | None
) -> str:
    """A token for this machine. Whoever cannot sign in yet is made known by the invitation they hold."""
    from everyshelf.client import ProblemError

    secret = invitation.rpartition("#")[2] if invitation else ""
    with new_client(address) as client:
        try:
            made = client.sign_in_for_token(name, password, f"command line on {machine}"[:100], scopes, days)
        except ProblemError as error:
            if not secret or error.status != 401:
                raise
            client.accept_invitation(secret, name, name, password)
            return client.sign_in_for_token(name, password, f"command line on {machine}"[:100], scopes, days).value
    if secret:
        with new_client(address, made.value) as client:
            client.accept_invitation(secret)
    return made.value


@click.group("token", cls=Commands)
def token() -> None:
    """List, make and revoke access tokens."""


@token.command("list")
@json_option
def token_list(as_json: bool) -> None:
    """List your tokens, without their values."""
    tokens = open_client().tokens()
    if as_json:
        terminal.print_json(tokens)
        return
    terminal.say(terminal.bold(terminal.count(len(tokens), "token")) + ".")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(15, text=True), terminal.Column(terminal.DETAIL, wrap=True))
    )
    for found in tokens:
        expires = f"until {terminal.when(found.expires)}" if found.expires else "never expires"
        listing.row(found.beginning + "…", (found.name, terminal.bold), f"{', '.join(found.scopes)}; {expires}")
    listing.show()


@token.command("make")
@click.argument("name")
@click.option(
    "--scope",
    "scopes",
    multiple=True,
    type=click.Choice(SCOPES),
    default=("read",),
    show_default=True,
    help="What the token may do; may be repeated.",
)
@click.option("--days", type=click.IntRange(1, 3650), default=90, show_default=True, help="How long it is valid.")
@json_option
def token_make(name: str, scopes: tuple[str, ...], days: int, as_json: bool) -> None:
    """Make the token NAME. Its value is shown only once."""
    made = open_client().make_token(name, list(scopes), days)
    if as_json:
        terminal.print_json(made)
        return
    able = terminal.bold(f"Token {name} can {', '.join(made.scopes)}")
    terminal.say(f"{able}; it lasts {days} days.")
    terminal.say(f"  {made.value}")
    terminal.say(terminal.dim("It is not shown again."))


@token.command("revoke")
@click.argument("name")
@json_option
def token_revoke(name: str, as_json: bool) -> None:
    """Revoke the token NAME immediately."""
    open_client().revoke_token(name)
    if as_json:
        terminal.print_json({"revoked": name})
    else:
        terminal.say(f"Token {name} is revoked.")

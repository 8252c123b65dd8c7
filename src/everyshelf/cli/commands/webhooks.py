"""``webhook``."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, read_if_dash, shelf_options
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.core.answers.events import DeliveryAnswer, WebhookAnswer

_TONES = {"done": "same", "failed": "removed", "waiting": "changed"}


@click.group("webhook", cls=Commands)
def webhook() -> None:
    """Tell programs elsewhere what happens on a shelf: commits, tags, proposals, promotions, drift, checks."""


_about = click.option(
    "--about",
    multiple=True,
    help="What to hear of: commit, tag, proposal, promotion … or one act (promotion.recorded); may be repeated; "
    "default: all.",
)
_secret = click.option(
    "--secret", help="Secret that signs each event; - reads it from standard input; default: one is made."
)


@webhook.command("list")
@shelf_options
def webhook_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the webhooks of a shelf."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.webhooks()
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(f"{terminal.bold(terminal.count(len(found), 'webhook'))}.")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(20), terminal.Column(34), terminal.Column(54, text=True))
    )
    for one in found:
        listing.row((one.name, terminal.bold), _how(one), ", ".join(one.about) or "all", one.address)
        if one.stopped:
            listing.under(f"      {one.stopped}")
    listing.show()
    if found:
        terminal.next_step(f"everyshelf webhook deliveries {found[0].name}")
    else:
        terminal.next_step("everyshelf webhook make NAME ADDRESS")


def _how(one: WebhookAnswer) -> str:
    if one.stopped:
        return "stopped"
    if one.failed:
        return f"{one.failed} failed"
    return f"{one.waiting} waiting" if one.waiting else "all arrived"


@webhook.command("make")
@click.argument("name")
@click.argument("receiver")
@_about
@_secret
@shelf_options
def webhook_make(
    name: str,
    receiver: str,
    about: tuple[str, ...],
    secret: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Send events to RECEIVER (https://…) from now on, signed with a secret that is shown this once."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.make_webhook(name, receiver, about, secret=read_if_dash(secret))
    tried = shelf.test_webhook(name)
    if as_json:
        terminal.print_json({"webhook": made, "tried": tried})
        return
    terminal.say(
        f"{terminal.bold(f'Made the webhook {name}')}: {', '.join(made.about) or 'all events'}, {made.address}"
    )
    terminal.say(f"  secret {made.secret}")
    _say_tried(tried)


@webhook.command("show")
@click.argument("name")
@shelf_options
def webhook_show(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Show the webhook NAME."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.webhook(name)
    if as_json:
        terminal.print_json(found)
        return
    _say(found)


def _say(found: WebhookAnswer) -> None:
    terminal.say(
        f"{terminal.bold(found.name)}: {_how(found)}. {', '.join(found.about) or 'All events'}, {found.address}"
    )
    if found.stopped:
        terminal.say(f"  {found.stopped}")
        terminal.next_step(f"everyshelf webhook change {found.name}")


@webhook.command("change")
@click.argument("name")
@click.option("--receiver", help="New address.")
@_about
@click.option("--about-all", is_flag=True, help="Hear of everything.")
@_secret
@shelf_options
def webhook_change(
    name: str,
    receiver: str | None,
    about: tuple[str, ...],
    about_all: bool,
    secret: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Change the webhook NAME. One that was stopped starts again."""
    shelf, _ = open_shelf(shelf_key, address)
    wanted = () if about_all else about or None
    found = shelf.change_webhook(name, address=receiver, about=wanted, secret=read_if_dash(secret))
    if as_json:
        terminal.print_json(found)
    else:
        _say(found)


@webhook.command("test")
@click.argument("name")
@shelf_options
def webhook_test(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Send an event to NAME that says nothing but that it arrives."""
    shelf, _ = open_shelf(shelf_key, address)
    tried = shelf.test_webhook(name)
    if as_json:
        terminal.print_json(tried)
    else:
        _say_tried(tried)
    if tried.state != "done":
        sys.exit(1)


def _say_tried(tried: DeliveryAnswer) -> None:
    if tried.state == "done":
        terminal.say(f"  A test event arrived: answered {tried.status}.")
    else:
        terminal.say(f"  {terminal.stops('failed')} A test event did not arrive: {tried.why}.")


@webhook.command("deliveries")
@click.argument("name")
@click.option("--state", type=click.Choice(["waiting", "done", "failed"]), help="Only these.")
@click.option("--limit", type=click.IntRange(1, 200), default=30, show_default=True, help="Number to print.")
@shelf_options
def webhook_deliveries(
    name: str, state: str | None, limit: int, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """List what NAME was sent, newest first."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.deliveries(name, state=state or "", limit=limit)
    if as_json:
        terminal.print_json(found)
        return
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(12),
            terminal.Column(22),
            terminal.Column(32),
            terminal.Column(60, text=True),
            terminal.Column(90, text=True),
        )
    )
    for one in found.items:
        answered = f"answered {one.status}" if one.state == "done" else one.why
        listing.row(
            terminal.tone(_TONES[one.state], one.state),
            terminal.when(one.created),
            one.event,
            one.type,
            (one.subject, terminal.bold),
            answered,
        )
    listing.show()
    failed = next((one for one in found.items if one.state == "failed"), None)
    if failed is not None:
        terminal.next_step(f"everyshelf webhook send-again {name} {failed.event}")


@webhook.command("send-again")
@click.argument("name")
@click.argument("event")
@shelf_options
def webhook_send_again(name: str, event: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Send EVENT (its id) to NAME again, at once."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.send_event_again(name, event)
    if as_json:
        terminal.print_json(found)
    else:
        terminal.say(f"{found.type} {found.event} is sent again.")


@webhook.command("remove")
@click.argument("name")
@shelf_options
def webhook_remove(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Remove the webhook NAME; nothing is sent there any more."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.remove_webhook(name)
    if as_json:
        terminal.print_json({"removed": name})
    else:
        terminal.say(f"Removed the webhook {name}.")

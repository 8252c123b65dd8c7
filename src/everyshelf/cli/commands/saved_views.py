"""``view``: saved views of a shelf."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, shelf_options
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.core.answers.saved_views import SavedViewAnswer


@click.group("view", cls=Commands)
def view() -> None:
    """List, save and remove saved views of a shelf."""


@view.command("list")
@shelf_options
def view_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List saved views, yours and those others share, with the address of each in the console."""
    shelf, _ = open_shelf(shelf_key, address)
    _say(shelf.views(), shelf.console, as_json)


@view.command("save")
@click.argument("name")
@click.argument("page")
@click.option("--share", is_flag=True, help="All who see the shelf see it.")
@shelf_options
def view_save(name: str, page: str, share: bool, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Save PAGE of the console under NAME; a view of yours with that name is replaced.

    PAGE is an address copied from the browser, or what follows /s/KEY in it.
    """
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.save_view(name, page.removeprefix(shelf.console), shared=share)
    _say(found, shelf.console, as_json)


@view.command("remove")
@click.argument("name")
@shelf_options
def view_remove(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Remove your view NAME."""
    shelf, _ = open_shelf(shelf_key, address)
    _say(shelf.remove_view(name), shelf.console, as_json)


def _say(found: list[SavedViewAnswer], start: str, as_json: bool) -> None:
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(f"{terminal.count(len(found), 'saved view')}."))
    listing = terminal.Listing((terminal.Column(2), terminal.Column(24, text=True), terminal.Column(14)))
    for one in found:
        whose = ("shared" if one.shared else "yours") if one.own else f"by {one.person}"
        listing.row((one.name, terminal.bold), (whose, terminal.dim), f"{start}{one.address}")
    listing.show()

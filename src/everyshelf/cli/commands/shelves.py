"""``shelf``."""

from __future__ import annotations

import click

from everyshelf.cli import terminal
from everyshelf.cli.session import json_option, open_client


@click.group("shelf")
def shelf() -> None:
    """List and make shelves."""


@shelf.command("list")
@click.option("--address", help="Address of the service.")
@json_option
def shelf_list(address: str | None, as_json: bool) -> None:
    """The shelves you may see."""
    found = open_client(address).shelves()
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(terminal.count(len(found), "shelf", "shelves")) + ".")
    for one in found:
        numbers = f"{terminal.count(one.commits, 'commit')}, {terminal.count(one.branches, 'branch', 'branches')}"
        numbers += f", {terminal.count(one.tags, 'tag')}"
        terminal.say(
            terminal.line(
                (2, one.role or "reader"), (terminal.KIND, terminal.bold(one.key)), (terminal.DETAIL - 10, numbers)
            )
        )
    terminal.next_step(f"everyshelf take {found[0].key}" if found else "everyshelf shelf make NAME")


@shelf.command("make")
@click.argument("name")
@click.option("--description", default="", help="What it is for.")
@click.option("--key", help="Its key in addresses; made from the name if left out.")
@click.option("--open", "open_to_all", is_flag=True, help="Let everybody who signs in see it.")
@click.option("--address", help="Address of the service.")
@json_option
def shelf_make(
    name: str, description: str, key: str | None, open_to_all: bool, address: str | None, as_json: bool
) -> None:
    """Make a shelf called NAME; it has a main branch at once."""
    made = open_client(address).make_shelf(name, description=description, key=key, open_to_all=open_to_all)
    if as_json:
        terminal.print_json(made)
        return
    terminal.say(terminal.bold(f"{made.name} stands") + f", with the branch {made.main_branch} and no artifacts yet.")
    terminal.next_step(f"everyshelf take {made.key}")

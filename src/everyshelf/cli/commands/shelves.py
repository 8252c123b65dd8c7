"""``shelf``."""

from __future__ import annotations

import click

from everyshelf.cli import terminal
from everyshelf.cli.session import json_option, open_client, open_shelf, shelf_options


@click.group("shelf")
def shelf() -> None:
    """List, make and change shelves."""


@shelf.command("list")
@click.option("--address", help="Address of the service.")
@json_option
def shelf_list(address: str | None, as_json: bool) -> None:
    """List the shelves you may see."""
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
@click.option("--description", default="", help="What the shelf is for.")
@click.option("--key", help="Key in addresses; default: made from the name.")
@click.option("--open", "open_to_all", is_flag=True, help="Let all signed-in users read it.")
@click.option("--address", help="Address of the service.")
@json_option
def shelf_make(
    name: str, description: str, key: str | None, open_to_all: bool, address: str | None, as_json: bool
) -> None:
    """Make the shelf NAME with an empty main branch."""
    made = open_client(address).make_shelf(name, description=description, key=key, open_to_all=open_to_all)
    if as_json:
        terminal.print_json(made)
        return
    terminal.say(terminal.bold(f"Created shelf {made.name}") + f" with an empty branch {made.main_branch}.")
    terminal.next_step(f"everyshelf take {made.key}")


@shelf.command("change")
@click.option("--name", help="New name.")
@click.option("--description", help="New description.")
@click.option(
    "--open/--members-only", "open_to_all", default=None, help="Who may read it: all signed-in users, or members only."
)
@shelf_options
def shelf_change(
    name: str | None,
    description: str | None,
    open_to_all: bool | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Change the name and description of a shelf, and who may read it."""
    if name is None and description is None and open_to_all is None:
        raise click.UsageError("nothing to change: give --name, --description, --open or --members-only.")
    found, _ = open_shelf(shelf_key, address)
    changed = found.change(name=name, description=description, open_to_all=open_to_all)
    if as_json:
        terminal.print_json(changed)
        return
    seen = "all signed-in users can read it" if changed.open_to_all else "only its members can read it"
    terminal.say(terminal.bold(changed.name) + f": {seen}.")

"""Options that many commands share."""

from __future__ import annotations

import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import completing

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient


class Commands(click.Group):
    """A group whose help gives the whole first sentence of each command, instead of its first 45 characters."""

    def format_commands(self, context: click.Context, formatter: click.HelpFormatter) -> None:
        """Write name and sentence of each command."""
        known = [(name, self.get_command(context, name)) for name in self.list_commands(context)]
        rows = [(name, command.get_short_help_str(400)) for name, command in known if command is not None]
        with formatter.section("Commands"):
            formatter.write_dl(rows)


json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document and nothing else.")


def read_if_dash(value: str | None) -> str | None:
    """A value, or the next line of standard input for "-": what is secret does not belong into a command line."""
    return sys.stdin.readline().strip() if value == "-" else value


at_option = click.option(
    "--at",
    "ref",
    metavar="REF",
    help="Branch, tag, commit or at:DATE; default: the desk's branch.",
    shell_complete=completing.refs,
)
whole_option = click.option("--whole", is_flag=True, help="Of a tag with a selection: the whole commit.")


def as_whole(shelf: ShelfClient, ref: str, *, whole: bool) -> str:
    """The ref; with ``whole`` the commit of the tag that it names."""
    return f"commit:{shelf.tag(ref.removeprefix('tag:')).commit}" if whole and ref.startswith("tag:") else ref


_address_option = click.option(
    "--address", help="Address of the service; default: the desk's, or the one connected last."
)


def address_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """--address and --json, for commands that look at all shelves."""
    return json_option(_address_option(function))


def shelf_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """--shelf, --address and --json, for commands that work on or off a desk."""
    function = _address_option(function)
    option = click.option(
        "--shelf", "shelf_key", help="Key of the shelf; default: the desk's.", shell_complete=completing.shelves
    )
    function = option(function)
    return json_option(function)

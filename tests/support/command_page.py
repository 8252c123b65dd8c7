"""docs/commands.md from the help of the commands: ``python -m tests.support.command_page`` writes it, a test compares."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import click

from tests.support.kind_page import parts_between

PAGE = Path(__file__).parents[2] / "docs" / "commands.md"
START, END = "<!-- commands -->\n", "<!-- end of commands -->\n"


def section() -> str:
    """Every command with its usage, help and options; commands of a group below it."""
    from everyshelf.cli.main import cli

    context = click.Context(cli, info_name="everyshelf")
    lines: list[str] = []
    for name in cli.list_commands(context):
        command = cli.get_command(context, name)
        assert command is not None
        lines += _command(command, f"everyshelf {name}", 2)
    return "\n".join(lines) + "\n"


def _command(command: click.Command, name: str, level: int) -> Iterator[str]:
    context = click.Context(command, info_name=name)
    yield f"{'#' * level} {name}"
    yield ""
    yield from _paragraphs(command.help or "")
    if isinstance(command, click.Group):
        for inner in command.list_commands(context):
            found = command.get_command(context, inner)
            assert found is not None
            yield from _command(found, f"{name} {inner}", level + 1)
        return
    usage = " ".join(command.collect_usage_pieces(context))
    yield f"    {name} {usage}".rstrip()
    yield ""
    rows = [p.get_help_record(context) for p in command.params if isinstance(p, click.Option) and not p.hidden]
    for row in rows:
        if row is not None:
            yield f"- `{row[0]}`: {_plain(row[1])}".rstrip(": ")
    if any(rows):
        yield ""


def _paragraphs(text: str) -> Iterator[str]:
    for paragraph in re.split(r"\n\s*\n", text.strip()):
        yield " ".join(paragraph.split())
        yield ""


def _plain(text: str) -> str:
    return " ".join(text.split()).replace("|", "\\|").replace("<", "\\<")


if __name__ == "__main__":
    before, _, after = parts_between(PAGE.read_text(), START, END)
    PAGE.write_text(f"{before}{START}{section()}{END}{after}")

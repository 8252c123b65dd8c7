"""``uses``: who uses an artifact or a part of it, what it uses, and who is hit if it goes."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.csv_output import csv_text
from everyshelf.cli.options import at_option, shelf_options
from everyshelf.cli.session import default_ref, open_shelf
from everyshelf.core.answers.uses import UsingArtifact

if TYPE_CHECKING:
    from everyshelf.core.answers.uses import UsedArtifact, UsesAnswer

_DEEPEST, _MOST = 20, 5000


def _levels(ctx: click.Context, param: click.Parameter, value: str) -> int:
    """The number of levels that a value of --depth means."""
    if value == "all":
        return _DEEPEST
    if value.isdecimal() and 1 <= int(value) <= _DEEPEST:
        return int(value)
    raise click.BadParameter(f"{value} is neither a number from 1 to {_DEEPEST} nor all")


@click.command("uses")
@click.argument("artifact", shell_complete=completing.artifacts)
@click.option("--part", metavar="PART", help="Only who uses this part, such as a column: its name, label or path.")
@click.option(
    "--depth", metavar="N|all", default="3", callback=_levels, help="Number of levels to follow, or all; default: 3."
)
@click.option(
    "--limit", type=click.IntRange(1, _MOST), help=f"Number of artifacts; default: 500, with --csv {_MOST:,}."
)
@click.option("--exact", is_flag=True, help="Leave out guesses.")
@at_option
@click.option("--csv", "as_csv", is_flag=True, help="Print a table for other programs.")
@shelf_options
def uses(
    artifact: str,
    part: str | None,
    depth: int,
    limit: int | None,
    exact: bool,
    ref: str | None,
    as_csv: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show who uses ARTIFACT or a part of it, who is hit if it goes, and what it uses."""
    shelf, desk = open_shelf(shelf_key, address)
    path = desk.as_path(artifact) if desk else artifact
    limit = limit or (_MOST if as_csv else None)
    found = shelf.uses(path, ref or default_ref(desk), part=part, depth=depth, limit=limit, exact=exact)
    if as_json:
        terminal.print_json(found)
    elif as_csv:
        click.echo(csv_text(_heads(found), _rows(found)), nl=False)
    else:
        _show(found, exact=exact)


def _show(found: UsesAnswer, *, exact: bool) -> None:
    guesses = "" if not exact else terminal.dim(" Guesses are left out.")
    terminal.say(terminal.bold(found.sentence) + guesses)
    for level in sorted({one.level for one in found.used_by}):
        users = [one for one in found.used_by if one.level == level]
        how = "use it themselves" if level == 1 else "through those"
        terminal.say()
        terminal.say(f"Level {level}, {how}: {len(users)}")
        listing = _listing()
        for one in users:
            _show_user(listing, found, one)
        listing.show()
    if found.uses or found.missing:
        terminal.say()
        terminal.say("What it uses")
        listing = _listing()
        for used in found.uses:
            listing.row((_verb(used), terminal.dim), used.kind, (_name(found, used), terminal.bold), _place(used))
        for missed in found.missing:
            listing.row(("missing", lambda text: terminal.tone("removed", text)), "", missed.name, missed.label)
        listing.show()
    if found.more or found.cut:
        what = " and ".join(word for word, there in (("levels", found.more), ("artifacts", found.cut)) if there)
        terminal.say(terminal.dim(f"There are more {what} than are listed."))
        asked = ["everyshelf", "uses", found.artifact]
        asked += ["--part", found.part.part] if found.part is not None else []
        asked += ["--exact"] if exact else []
        asked += ["--depth", "all"] if found.more else []
        asked += ["--limit", str(_MOST)] if found.cut else []
        terminal.next_step(shlex.join(asked))
    if found.unread:
        what = terminal.count(found.unread, "artifact")
        terminal.say(f"{what} could not be read; what they use is not known.")


def _listing() -> terminal.Listing:
    return terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(terminal.NAME, path=True),
            terminal.Column(63, wrap=True),
        )
    )


def _show_user(listing: terminal.Listing, found: UsesAnswer, one: UsingArtifact) -> None:
    mark = (one.effect, lambda text: terminal.effect(text.strip()))
    listing.row(mark, one.kind, (_name(found, one), terminal.bold), _place(one))
    told = []
    if one.level > 1:
        verb = "is made by" if one.verb == "made by" else "through"
        told.append(f"{verb} {', '.join(one.through)}")
    if one.part:
        told.append(f"passes on {one.part}" if one.part != "*" else "")
    running = [_running(run.environment, run.version, run.uses) for run in one.runs_in if run.version is not None]
    if running:
        told.append("in " + ", ".join(running))
    if any(told):
        listing.under(" " * terminal.KIND + terminal.dim("; ".join(t for t in told if t)))


def _running(environment: str, version: int | None, uses: bool | None) -> str:
    return f"{environment} v{version}" + (" (does not use it)" if uses is False else "")


def _verb(one: UsedArtifact) -> str:
    return "made by" if one.verb == "made by" else "uses"


def _name(found: UsesAnswer, one: UsingArtifact | UsedArtifact) -> str:
    return one.artifact if one.shelf == found.shelf else f"{one.shelf}: {one.artifact}"


def _place(one: UsingArtifact | UsedArtifact) -> str:
    told = one.label + ("" if one.exact else terminal.dim(" a guess"))
    if isinstance(one, UsingArtifact):
        return told + (terminal.dim(f" and {one.places - 1} more") if one.places > 1 else "")
    return told + (terminal.dim(f" level {one.level}") if one.level > 1 else "")


def _heads(found: UsesAnswer) -> list[str]:
    own = ["level", "shelf", "artifact", "kind", "place", "label", "places", "verb", "effect", "found", "through"]
    return [*own, *(f"version in {name}" for name in found.environments)]


def _rows(found: UsesAnswer) -> list[list[str]]:
    rows = []
    for one in found.used_by:
        versions = {run.environment: run.version for run in one.runs_in}
        rows.append(
            [
                *(str(one.level), one.shelf, one.artifact, one.kind, one.place, one.label, str(one.places)),
                *(one.verb, one.effect, "exact" if one.exact else "a guess", "; ".join(one.through)),
                *(str(versions.get(name) or "") for name in found.environments),
            ]
        )
    return rows

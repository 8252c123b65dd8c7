"""``find``: artifacts by the words in them."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.csv_output import csv_text
from everyshelf.cli.options import address_options
from everyshelf.cli.session import open_client

if TYPE_CHECKING:
    from everyshelf.core.answers.find import FindAnswer, FoundArtifact, FoundPlace

_SHOWN = 20


@click.command("find")
@click.argument("words", nargs=-1)
@click.option(
    "--shelf", "shelves", multiple=True, metavar="SHELF", help="Only on this shelf.", shell_complete=completing.shelves
)
@click.option("--kind", "kinds", multiple=True, help="Only artifacts of this kind.")
@click.option("--by", metavar="PERSON", help="Only versions by this person.")
@click.option("--since", metavar="DATE", help="Only versions of this day or later.")
@click.option("--until", metavar="DATE", help="Only versions of this day or earlier.")
@click.option("--label", metavar="KEY[=VALUE]", help="Only versions with this label.")
@click.option("--task", metavar="ID", help="Only versions for this task.")
@click.option("--effect", type=click.Choice(["breaks", "alters", "cosmetic"]), help="Only versions with this effect.")
@click.option("--larger", type=click.IntRange(1), metavar="BYTES", help="Only artifacts of at least this size.")
@click.option("--in-history", is_flag=True, help="Look through earlier versions too.")
@click.option("--newest", is_flag=True, help="Newest first, instead of the best match.")
@click.option("--limit", type=click.IntRange(1), help="Number of artifacts; default: 20, with --csv all.")
@click.option("--csv", "as_csv", is_flag=True, help="Print a table for other programs.")
@address_options
def find(
    words: tuple[str, ...],
    shelves: tuple[str, ...],
    kinds: tuple[str, ...],
    in_history: bool,
    newest: bool,
    limit: int | None,
    as_csv: bool,
    larger: int | None,
    address: str | None,
    as_json: bool,
    **filters: str | None,
) -> None:
    """Find artifacts that hold all WORDS, on all shelves you may see. Quote a phrase twice: '"low water"'."""
    client = open_client(address)
    found = client.find(
        " ".join(words),
        shelves=list(shelves),
        kinds=list(kinds),
        history=in_history,
        order="newest" if newest else "",
        larger=larger,
        limit=limit or (None if as_csv else _SHOWN),
        **{name: value for name, value in filters.items() if value},
    )
    if as_json:
        terminal.print_json(found)
    elif as_csv:
        _print_csv(found)
    else:
        _show(found)


def _show(found: FindAnswer) -> None:
    on = {item.shelf for item in found.items}
    over = "over " if found.more else ""
    said = f"{over}{terminal.count(found.total, 'artifact')} on {terminal.count(found.shelves, 'shelf', 'shelves')}"
    terminal.say(terminal.bold(said) + ("." if found.total <= len(found.items) else f", the first {len(found.items)}."))
    for item in found.items:
        name = f"{item.shelf_name}: {item.path}" if len(on) > 1 else item.path
        version = f"v{item.version}" if item.version else ""
        ever = f", versions {item.first} to {item.last}" if item.first is not None and item.first != item.last else ""
        where = "" if item.branches else ", not at the head of any branch"
        when = terminal.when(item.recorded)
        told = f"{terminal.bold(name)}  {version}  {item.author}, {when}{ever}{where}"
        terminal.say(f"  {terminal.dim(item.kind)}  {told}")
        for place in item.places:
            terminal.paragraph(_place(place), indent=6)
        if item.place_count > len(item.places):
            terminal.say(terminal.dim(f"      {item.place_count - len(item.places)} more places"))
    if found.commits:
        said = f"{terminal.count(found.commits, 'commit says', 'commits say')} the same"
        terminal.say(f"{said}: everyshelf history --words {shlex.quote(found.words)}")
    if found.unread:
        terminal.say(f"{terminal.count(found.unread, 'version')} still to be read; ask again in a while.")


def _place(place: FoundPlace) -> str:
    where = place.type if place.label in ("", place.text) else f"{place.type} {place.label}"
    where = place.label if place.label.startswith(f"{place.type} ") else where
    where = f"{where}, {place.field}" if place.field else where
    return f"{terminal.dim(where)}  {_marked(place.text, place.marks)}"


def _marked(text: str, marks: list[tuple[int, int]]) -> str:
    told, at = "", 0
    for start, end in marks:
        if start >= at:
            told += text[at:start] + terminal.bold(text[start:end])
            at = end
    return told + text[at:]


def _print_csv(found: FindAnswer) -> None:
    heads = ["shelf", "path", "kind", "version", "author", "recorded", "type", "part", "field", "text"]
    rows = [row for item in found.items for row in _rows(item)]
    click.echo(csv_text(heads, rows), nl=False)


def _rows(item: FoundArtifact) -> list[list[object]]:
    of_item = [item.shelf, item.path, item.kind, item.version, item.author, item.recorded.isoformat()]
    of_places = [[p.type, p.part, p.field, p.text] for p in item.places] or [["", "", "", ""]]
    return [[*of_item, *cells] for cells in of_places]

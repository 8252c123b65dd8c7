"""Artifacts that a promotion would change, or that differ between environments: one by one, or by folder if many."""

from __future__ import annotations

from itertools import groupby
from typing import Any

from everyshelf.cli import terminal

_GROUPED_FROM = 21


def print_by_folder(rows: list[dict[str, Any]], most: int | None = None, *, at: int = 2) -> None:
    """Print a row for each artifact: mark, kind, name and headline. More than 20 are grouped by their folders; the
    folders come in the order in which their first artifacts do. ``most``: how many to print on a terminal. ``at``:
    the column of the marks."""
    shown = rows[: terminal.most(most)]
    listing = terminal.Listing(
        (
            terminal.Column(at),
            terminal.Column(terminal.KIND),
            terminal.Column(terminal.NAME, path=True),
            terminal.Column(terminal.DETAIL, wrap=True),
        )
    )
    if len(shown) < _GROUPED_FROM:
        _add(listing, shown)
    else:
        first: dict[str, int] = {}
        for place, row in enumerate(shown):
            first.setdefault(_folder(row), place)
        for folder, inner in groupby(sorted(shown, key=lambda row: first[_folder(row)]), key=_folder):
            those = list(inner)
            size = terminal.dim(terminal.count(len(those), "artifact"))
            listing.under(f"  {terminal.bold(f'{folder}/')} {size}")
            _add(listing, those)
    listing.show()
    terminal.say_left(rows, len(shown))


def _folder(row: dict[str, Any]) -> str:
    return str(row["path"]).rpartition("/")[0] or "."


def _add(listing: terminal.Listing, rows: list[dict[str, Any]]) -> None:
    for row in rows:
        mark = terminal.tone(row["state"], terminal.GLYPHS[row["state"]])
        effect = f"{terminal.effect('breaks')} " if row["effect"] == "breaks" else ""
        listing.row(mark, row["kind"], (row["name"], terminal.bold), effect + row["headline"])

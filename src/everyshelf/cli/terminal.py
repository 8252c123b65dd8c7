"""How the command line speaks: sentence first, marks in a fixed column, no boxes, next step last.

Columns start at 2 (mark or effect), 13 (kind), 23 (name) and 46 (version, detail), or further right where a name needs
the room; see ``layout``. Colours follow glyphs and words, never replace them; with NO_COLOR, or into a pipe, nothing is
lost.
"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable, Iterator, Sized
from contextlib import contextmanager
from typing import Any

import click

from everyshelf.cli.layout import Column, Listing, cut, line, one_line, shorten_path, width, width_of, wrapped

__all__ = ["Column", "Listing", "cut", "line", "one_line", "shorten_path", "width", "width_of", "wrapped"]

GLYPHS = {
    "added": "+",
    "removed": "−",
    "changed": "≠",
    "moved": "↷",
    "renamed": "↷",
    "reordered": "↷",
    "new": "+",
    "gone": "−",
    "edited": "≠",
    "blocked": "‖",
    "same": " ",
    "conflict": "⊣⊢",
    "settled": "■",
}
_TONES: dict[str, tuple[tuple[int, int, int], str]] = {
    "added": ((0x6F, 0xDD, 0xE6), "cyan"),
    "removed": ((0xDE, 0x86, 0x72), "yellow"),
    "changed": ((0xA7, 0xA3, 0xFA), "bright_blue"),
    "moved": ((0xEF, 0xC4, 0x58), "magenta"),
}
_TONE_OF = {"new": "added", "gone": "removed", "edited": "changed", "renamed": "moved", "reordered": "moved"}
_COMMAND = (0xCF, 0xA7, 0xC4)
KIND, NAME, DETAIL = 13, 23, 46


def _coloured() -> bool:
    context = click.get_current_context(silent=True)
    wanted = context.color if context is not None and context.color is not None else sys.stdout.isatty()
    return wanted and "NO_COLOR" not in os.environ


def _full_colour() -> bool:
    return os.environ.get("COLORTERM", "") in ("truecolor", "24bit")


def say(text: str = "") -> None:
    """One line on stdout."""
    click.echo(text)


def bold(text: str) -> str:
    """Names and the sentence."""
    return click.style(text, bold=True) if _coloured() else text


def dim(text: str) -> str:
    """What is same, met, or secondary."""
    return (
        click.style(text, fg=(0x96, 0x94, 0x8D))
        if _coloured() and _full_colour()
        else (click.style(text, dim=True) if _coloured() else text)
    )


def tone(state: str, text: str) -> str:
    """Text in the colour of a mark."""
    name = _TONE_OF.get(state, state)
    if not _coloured() or name not in _TONES:
        return text
    exact, near = _TONES[name]
    return click.style(text, fg=exact if _full_colour() else near)


def stops(word: str) -> str:
    """What stops you: ``breaks`` and ``holds``; inverse, or capitals without colours."""
    return click.style(f" {word} ", reverse=True, bold=True) if _coloured() else word.upper()


def command(text: str) -> str:
    """A command that can be copied."""
    if not _coloured():
        return text
    return click.style(text, fg=_COMMAND) if _full_colour() else click.style(text, underline=True)


def next_step(text: str) -> None:
    """The last line: one command, true for this very state."""
    say(f"Next: {command(text)}")


def artifact_listing() -> Listing:
    """A listing of artifacts: mark and word, kind, name, detail."""
    return Listing((Column(2), Column(KIND), Column(NAME, path=True), Column(DETAIL, wrap=True)))


def artifact_row(
    listing: Listing,
    state: str,
    kind: str,
    name: str,
    detail: str = "",
    *,
    word: str | None = None,
    faint: bool = False,
) -> None:
    """Add an artifact to a listing."""
    mark = f"{GLYPHS.get(state, ' ')} {word if word is not None else state}"
    styled = dim(mark) if faint else bold(mark) if state == "blocked" else tone(state, mark)
    listing.row(styled, kind, (name, dim if faint else bold), detail)


def row(state: str, kind: str, name: str, detail: str = "", *, word: str | None = None, faint: bool = False) -> None:
    """Print one artifact."""
    listing = artifact_listing()
    artifact_row(listing, state, kind, name, detail, word=word, faint=faint)
    listing.show()


def most(number: int | None) -> int | None:
    """How many rows to print: that many on a terminal, all of them in a pipe or a file."""
    return number if width() is not None else None


def fit(text: str, start: int) -> str:
    """A text on one line that starts at a column, cut where the terminal ends; whole in a pipe or a file."""
    room = width()
    return cut(text, None if room is None else max(12, room - start))


def wrapped_at(text: str, start: int) -> list[str]:
    """The lines of a text that starts at a column."""
    room = width()
    return wrapped(one_line(text), None if room is None else max(20, room - start))


def labelled(label: str, text: str, *, at: int = KIND) -> None:
    """Print a text, wrapped, beside a label."""
    first, *rest = wrapped_at(text, at) or [""]
    say(line((2, label), (at, first)))
    for more in rest:
        say(" " * at + more)


def paragraph(text: str, *, indent: int = 0) -> None:
    """Print a text, wrapped at the width of the terminal, with all its lines at ``indent``."""
    room = width()
    for one in wrapped(text, None if room is None else room - indent):
        say(" " * indent + one)


def effect(word: str) -> str:
    """An effect as ink: breaks stands out, alters is plain, cosmetic recedes; empty: nobody could judge it."""
    word = word or "not judged"
    return stops("breaks") if word == "breaks" else dim(word) if word == "cosmetic" else word


@contextmanager
def progress_bar(label: str) -> Iterator[Callable[[int, int, str], None]]:
    """A bar on stderr while a terminal looks on, nothing otherwise. Call with done, total and a note."""
    if not sys.stderr.isatty():
        yield lambda done, total, note: None
        return
    last = [0]

    def show(done: int, total: int, note: str) -> None:
        filled = int(24 * done / total) if total else 0
        text = f"{label} {'█' * filled}{'░' * (24 - filled)} {done} of {total} {cut(note, 40)}"
        click.echo("\r" + text + " " * max(0, last[0] - width_of(text)), err=True, nl=False)
        last[0] = width_of(text)

    try:
        yield show
    finally:
        if last[0]:
            click.echo("\r" + " " * last[0] + "\r", err=True, nl=False)


@contextmanager
def waiting(label: str, *, shown: bool = True) -> Iterator[Callable[[], None]]:
    """Seconds that went by, on stderr, while a terminal looks on. Call about once a second."""
    start, last = time.monotonic(), [0]

    def tick() -> None:
        if shown and sys.stderr.isatty():
            text = f"{label} … {time.monotonic() - start:.0f} s"
            click.echo("\r" + text, err=True, nl=False)
            last[0] = width_of(text)

    try:
        yield tick
    finally:
        if last[0]:
            click.echo("\r" + " " * last[0] + "\r", err=True, nl=False)


def print_json(document: Any) -> None:
    """Exactly one JSON document on stdout."""
    import msgspec

    click.echo(msgspec.json.format(msgspec.json.encode(document), indent=2).decode())


def say_left(rows: Sized, shown: int) -> None:
    """Print how many rows of a list are not shown, if it was cut for the terminal."""
    left = len(rows) - shown
    if left > 0 and width() is not None:
        say(line((KIND, dim(f"and {left} more; all are listed in a pipe, or with --json"))))


def count(number: int, noun: str, plural: str | None = None) -> str:
    """ "1 artifact", "3 artifacts"."""
    return f"{number} {noun if number == 1 else plural or noun + 's'}"


def number(value: Any) -> str:
    """A measured value, rounded to five digits that count."""
    return f"{value:.5g}" if isinstance(value, float) else str(value)


def size(number: int) -> str:
    """Bytes in a unit people read: 48 KB, 1.9 GB."""
    value = float(number)
    for unit in ("B", "KB", "MB", "GB", "TB"):
        if value < 1000 or unit == "TB":
            return f"{value:.0f} {unit}" if value >= 10 or unit == "B" else f"{value:.1f} {unit}"
        value /= 1000
    raise AssertionError


def when(moment: Any) -> str:
    """A time: today 09:58, Thu 16:20, 4 Mar, 4 Mar 2025."""
    from datetime import datetime

    given = datetime.fromisoformat(moment) if isinstance(moment, str) else moment
    local, now = given.astimezone(), datetime.now().astimezone()
    days = (now.date() - local.date()).days
    if days == 0:
        return f"today {local:%H:%M}"
    if 0 < days < 7:
        return f"{local:%a %H:%M}"
    return f"{local.day} {local:%b}" if local.year == now.year else f"{local.day} {local:%b %Y}"

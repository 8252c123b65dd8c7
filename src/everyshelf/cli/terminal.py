"""How the command line speaks: sentence first, marks in a fixed column, no boxes, next step last.

Columns start at 2 (mark or effect), 13 (kind), 23 (name) and 46 (version, detail); lines are 100 wide. Colours follow
glyphs and words, never replace them; with NO_COLOR, or into a pipe, nothing is lost.
"""

from __future__ import annotations

import os
import sys
import time
import unicodedata
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import click

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
    return sys.stdout.isatty() and "NO_COLOR" not in os.environ


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


def width_of(text: str) -> int:
    """Columns a text takes on a terminal."""
    plain = click.unstyle(text)
    return sum(0 if unicodedata.combining(c) else 2 if unicodedata.east_asian_width(c) in "WF" else 1 for c in plain)


def cut(text: str, width: int) -> str:
    """Text in at most ``width`` columns; the whole is in --json."""
    text = " ".join(text.split())
    if width_of(text) <= width:
        return text
    kept = ""
    for character in text:
        if width_of(kept + character) > width - 1:
            break
        kept += character
    return kept + "…"


def line(*cells: tuple[int, str]) -> str:
    """Cells at their columns; a cell that is too long pushes the rest by one blank."""
    result = ""
    for column, text in cells:
        gap = column - width_of(result)
        result += " " * max(gap, 1 if result else column) + text if gap > 0 or result else text
    return result.rstrip()


def row(state: str, kind: str, name: str, detail: str = "", *, word: str | None = None, faint: bool = False) -> None:
    """One artifact: mark and word, kind, name, detail."""
    mark = f"{GLYPHS.get(state, ' ')} {word if word is not None else state}"
    styled = dim(mark) if faint else bold(mark) if state == "blocked" else tone(state, mark)
    shown = cut(name, DETAIL - NAME - 2)
    say(line((2, styled), (KIND, kind), (NAME, dim(shown) if faint else bold(shown)), (DETAIL, detail)))


def effect(word: str) -> str:
    """An effect as ink: breaks stands out, alters is plain, cosmetic recedes."""
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


def say_more(number: int) -> None:
    """That a list goes on, where it does."""
    if number > 0:
        say(line((KIND, dim(f"and {count(number, 'more', 'more')}; see --json"))))


def count(number: int, noun: str, plural: str | None = None) -> str:
    """ "1 artifact", "3 artifacts"."""
    return f"{number} {noun if number == 1 else plural or noun + 's'}"


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

"""Where in a Parquet file the pages lie whose values are numbers of a dictionary.

Source: the format's own description (``README.md``, ``Encodings.md`` and ``parquet.thrift`` of Apache Parquet). Of the
structures only the fields that are needed here are looked at, by their numbers there.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from everyshelf.core.content.thrift import Fields, NotThriftError, read_struct

MARK = b"PAR1"
PLAIN, SNAPPY = 0, 1  # how pages are compressed, as the format numbers it; others are left as they are
_DATA_PAGE, _DATA_PAGE_2 = 0, 3
_NUMBERS = (2, 8)  # encodings: of a dictionary, by its older and its newer name
_TAIL = 8  # bytes: length of the footer, mark
_REQUIRED, _REPEATED = 0, 2
_MOST_PAGES = 20_000


@dataclass(frozen=True)
class NumberPage:
    """Bytes ``start`` to ``stop`` of a file: levels and numbers of a page, compressed as ``codec`` says. ``levels``:
    how many levels come first, each after its length (0 to 2)."""

    start: int
    stop: int
    codec: int
    levels: int


def number_pages(data: bytes) -> Iterator[NumberPage]:
    """The pages of numbers, column by column. None for other files, and for files that do not follow the format."""
    try:
        for start, stop, codec, levels in _columns(data):
            if codec in (PLAIN, SNAPPY):
                yield from _pages(data, start, stop, codec, levels)
    except (NotThriftError, ValueError, LookupError, TypeError, AttributeError):
        return


def _columns(data: bytes) -> list[tuple[int, int, int, int]]:
    """Where the pages of each column of each group of rows begin and end, how they are compressed, how many levels
    they have."""
    if not data.startswith(MARK) or not data.endswith(MARK):
        return []
    end = len(data) - _TAIL
    length = int.from_bytes(data[end : end + 4], "little")
    if length > end:
        return []
    said, _ = read_struct(data, end - length, end)
    levels = _levels(said[2])
    found = []
    for group in said[4]:
        for place, column in enumerate(group[1]):
            about = column.get(3)
            if about is not None:  # else it is encrypted
                begins = [about[number] for number in (9, 11) if about.get(number, 0) > 0]
                found.append((min(begins), min(begins) + about[7], about[4], levels[place]))
    return found


def _levels(schema: list[Fields]) -> list[int]:
    """Of each column, how many sorts of levels its pages have: which row a value is of, and what is missing of it."""
    found: list[int] = []
    open_groups: list[tuple[int, int]] = []  # how many members are left of each, and the levels down to it
    above = 0
    for place, element in enumerate(schema):
        sort = element.get(3, _REQUIRED) if place else _REQUIRED
        here = above | (1 if sort != _REQUIRED else 0) | (2 if sort == _REPEATED else 0)
        if element.get(5):
            open_groups.append((element[5], above))
            above = here
            continue
        found.append(here.bit_count())
        while open_groups:
            left, before = open_groups.pop()
            if left > 1:
                open_groups.append((left - 1, before))
                break
            above = before
    return found


def _pages(data: bytes, start: int, stop: int, codec: int, levels: int) -> Iterator[NumberPage]:
    at = start
    for _ in range(_MOST_PAGES):
        if not 0 < at < min(stop, len(data)):
            return
        head, at = read_struct(data, at, len(data))
        end = at + head[3]
        if end > len(data) or end < at:
            return
        if head[1] == _DATA_PAGE and head[5][2] in _NUMBERS:
            yield NumberPage(at, end, codec, levels)
        elif head[1] == _DATA_PAGE_2 and head[8][4] in _NUMBERS:
            begins = at + head[8].get(5, 0) + head[8].get(6, 0)  # levels are never compressed there
            if at <= begins <= end:
                yield NumberPage(begins, end, codec if head[8].get(7, True) else PLAIN, 0)
        at = end

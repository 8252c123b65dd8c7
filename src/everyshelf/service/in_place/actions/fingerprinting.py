"""Reading all bytes of data in place for their SHA-256, by several processes where there are many of them."""

from __future__ import annotations

import contextlib
import itertools
from collections.abc import Callable
from functools import partial

import msgspec

from everyshelf.core.content.outside import ChangedError
from everyshelf.core.errors import BrokenError, InvalidError, OutOfReachError, RefusedError
from everyshelf.service.base.context import get_store
from everyshelf.service.base.spreading import Needs, in_batches, spread_out
from everyshelf.service.in_place.actions.places import keys_for, opening, place_of, reader_of, told
from everyshelf.service.in_place.actions.registering import stamp_of
from everyshelf.service.shelves.models import OutsideContent
from everyshelf.storage.outside.fingerprints import Wanted, digest, digests_of
from everyshelf.storage.outside.places import NO_KEYS, Keys

# What one place may answer; the others are still checked. (A server may have lost what made a file readable in place.)
ANSWERS = (ChangedError, OutOfReachError, RefusedError, InvalidError, BrokenError)

Tell = Callable[[int], None]


def read_all(rows: list[OutsideContent], tell: Tell) -> None:
    """Read what each row stands for; put what is wrong, or the SHA-256, into it.

    ``tell`` gets how many bytes were read.
    """
    done = 0
    for needs, some in _by_what_they_need(rows).items():
        _read_batches(_batches(some), needs, partial(_beyond, tell, done))
        done += sum(row.size for row in some)


def _beyond(tell: Tell, done: int, so_far: int) -> None:
    tell(done + so_far)


def _read_here(rows: list[OutsideContent], tell: Tell) -> None:
    done = 0
    for row in rows:
        row.problem = _read(row, partial(_beyond, tell, done))
        done += row.size


def _read_batches(batches: list[list[OutsideContent]], needs: Needs, tell: Tell) -> None:
    """A fingerprint that another process made counts where it agrees with what is known; all else is looked at here."""
    if len(batches) == 1:
        _read_here(batches[0], tell)
        return
    done = [0]
    work = [
        (opening(batch[0].address, _keys(batch[0])), [Wanted(row.address, stamp_of(row)) for row in batch])
        for batch in batches
    ]
    with contextlib.closing(spread_out(digests_of, work, lambda so_far: tell(done[0] + so_far), needs=needs)) as parts:
        for place, found in parts:
            left = []
            for row, sha256 in zip(batches[place], found, strict=True):
                if sha256 and row.sha256 in ("", sha256):
                    row.sha256, row.problem = sha256, ""
                    done[0] += row.size
                else:
                    left.append(row)
            _read_here(left, partial(_beyond, tell, done[0]))
            done[0] += sum(row.size for row in left)
            tell(done[0])


def _by_what_they_need(rows: list[OutsideContent]) -> dict[Needs, list[OutsideContent]]:
    """Credentials do not leave this machine: whoever reaches a cluster could read them. That some cannot be opened is a
    problem of the files of their place alone."""
    found: dict[Needs, list[OutsideContent]] = {}
    for row in rows:
        try:
            needs: Needs = "nothing" if _keys(row) == NO_KEYS else "this machine"
        except ANSWERS as error:
            row.problem = error.message
        else:
            found.setdefault(needs, []).append(row)
    return found


def _keys(row: OutsideContent) -> Keys:
    return keys_for(row.address, row.shelf_id)


def _batches(rows: list[OutsideContent]) -> list[list[OutsideContent]]:
    """Files of one place each, that one reader reads."""
    rows = sorted(rows, key=_place)
    if len(one := in_batches(rows, lambda row: row.size)) < 2:
        return one
    of_places = [list(some) for _, some in itertools.groupby(rows, key=_place)]
    return [batch for some in of_places for batch in in_batches(some, lambda row: row.size)]


def _place(row: OutsideContent) -> tuple[str, int]:
    return place_of(row.address), row.shelf_id or 0


def _read(row: OutsideContent, tell: Tell) -> str:
    """Read all bytes; say what is wrong, or put their SHA-256 into the row. Bytes that have the SHA-256 are what was
    registered, whatever the place says of them by now: a disk that was copied gives its files other times."""
    try:
        found = digest(get_store().iter_range(row.content), tell)
    except ChangedError as error:
        if not row.sha256:
            return error.message
        return _read_again(row, error.message, tell)
    except ANSWERS as error:
        return error.message
    if row.sha256 and row.sha256 != found:
        return f"{told(row.address)} has other bytes than when it was last read, though its stamps are the same"
    row.sha256 = found
    return ""


def _read_again(row: OutsideContent, why: str, tell: Tell) -> str:
    place = reader_of(row.address, row.shelf_id)
    try:
        now = place.stamp(row.address)
        if now.size != row.size or digest(place.read(row.address, now, 0, now.size), tell) != row.sha256:
            return why
    except FileNotFoundError:
        return why
    except ANSWERS as error:
        return error.message
    row.stamp = msgspec.to_builtins(now)
    return ""

"""What a place outside the store can do, whatever sort it is of, and the errors it raises."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Protocol

from everyshelf.core.content.outside import ChangedError, Stamp
from everyshelf.core.errors import InvalidError, OutOfReachError

PIECE_BYTES = 1024 * 1024
TRIES = 3


@dataclass(frozen=True)
class Found:
    """One file of a listing: its name below what was listed (empty: it is what was asked for), and its own address.
    ``why_not``: what keeps it from being registered."""

    name: str
    address: str
    stamp: Stamp
    why_not: str = ""


class OutsidePlace(Protocol):
    """A sort of place. Addresses are those that people write and that ``Found`` gives."""

    def listed(self, address: str) -> Iterator[Found]:
        """List the file at an address, or all files below it. Raise ``InvalidError`` where there is nothing."""
        ...

    def stamp(self, address: str) -> Stamp:
        """Tell what the place says of a file now; raise ``FileNotFoundError`` for one that is gone."""
        ...

    def read(self, address: str, stamp: Stamp, start: int, stop: int) -> Iterator[bytes]:
        """Give the bytes ``start`` to ``stop`` of a file that still has this stamp, in pieces; raise ``ChangedError``,
        ``FileNotFoundError`` or ``OutOfReachError`` before giving any others."""
        ...


@dataclass(frozen=True)
class Keys:
    """Credentials for a place: a key and its secret for a bucket, a token for a server. Empty: none."""

    key_id: str = ""
    secret: str = ""


NO_KEYS = Keys()


def differs(address: str, before: Stamp, now: Stamp) -> ChangedError:
    """The error for bytes that were written again, with what differs."""
    if before.size != now.size:
        what = f"it had {before.size} bytes then and has {now.size} now"
    elif before.etag and before.etag != now.etag:
        what = "its ETag differs"
    elif before.modified != now.modified:
        what = "it was written to"
    else:
        what = "its length and time are the same, but the system says that its bytes or its rights were changed"
    return ChangedError(f"{address} has changed since it was registered: {what}", code="in_place.changed")


def gone(address: str) -> ChangedError:
    """The error for bytes that are not there any more."""
    return ChangedError(
        f"{address} does not exist any more",
        code="in_place.gone",
        hint="Put it back there, unchanged; or register what takes its place: everyshelf in-place add",
    )


def nothing_there(address: str) -> InvalidError:
    """The error for an address with nothing to register."""
    return InvalidError(
        f"{address} does not exist, or holds no file", code="in_place.nothing", hint="See how it is written."
    )


def refused(address: str, why: object) -> OutOfReachError:
    """The error for credentials that do not open a place."""
    return OutOfReachError(
        f"{address} refuses this service ({why})",
        code="in_place.refused",
        hint="Give credentials that may list and read there: everyshelf in-place set-credentials",
    )


class UnreachedError(OutOfReachError):
    """The place does not answer."""

    code = "in_place.out_of_reach"
    hint = "See whether it can be reached from this service, then try again; nothing was changed."

    def __init__(self, address: str, why: object) -> None:
        super().__init__(f"{address} does not answer: {str(why)[:200]}")


class BrokenOffError(UnreachedError):
    """An answer that ended before all was given; what came is good, and the rest may be asked for again."""


def same_bytes(before: Stamp, now: Stamp) -> bool:
    """Whether two stamps are of the same bytes: by the ETag where both have one, else by all that they say."""
    if before.etag and now.etag:
        return (before.size, before.etag) == (now.size, now.etag)
    return before == now


def read_on(address: str, start: int, stop: int, once: Callable[[int], Iterator[bytes]]) -> Iterator[bytes]:
    """Give what ``once`` gives from ``start`` on; where it breaks off (``BrokenOffError``), go on from there. A place
    that gives nothing three times in a row is left."""
    at, tries = start, TRIES
    while at < stop:
        try:
            for piece in once(at):
                yield piece
                at += len(piece)
                tries = TRIES
            if at < stop:
                raise BrokenOffError(address, "its answer ended early")
        except BrokenOffError:
            tries -= 1
            if tries <= 0:
                raise

"""Long work on many things of one sort, in batches that other processes work out: those of a cluster where one is set,
else some of this machine. What they could not do is done by this process, so that nothing is left out."""

from __future__ import annotations

import contextlib
import importlib
import mmap
import os
import secrets
import struct
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import Any, Literal, TypeVar

import structlog

from everyshelf.core.spreading import Spread, UnreachedError
from everyshelf.service.base.config import get_config

log = structlog.get_logger("everyshelf.spreading")
S = TypeVar("S")
T = TypeVar("T")
Given = tuple[Any, ...]
# What has to be where work is done: nothing (any machine will do), the data folder (one that sees the same disk), or
# what is not to leave this machine.
Needs = Literal["nothing", "the data folder", "this machine"]
Told = Callable[[int], None]
Tick = Callable[[int], None]
_WORTH_BYTES = 64 * 1024 * 1024  # less is done as quickly as other processes are started
_WORTH_THINGS = 2_000
_BATCH_BYTES, _BATCH_THINGS = 32 * 1024 * 1024, 500
_WORD_BYTES = 16
_SLOT = struct.Struct("<Q")


def in_batches(things: Iterable[S], size: Callable[[S], int]) -> list[list[S]]:
    """Things cut into batches of some bytes each; all in one where sharing them out is not worth it."""
    every = list(things)
    if len(every) <= _WORTH_THINGS and sum(map(size, every)) <= _WORTH_BYTES:
        return [every] if every else []
    batches: list[list[S]] = []
    room = 0
    for one in every:
        if room <= 0 or len(batches[-1]) >= _BATCH_THINGS:
            batches.append([])
            room = _BATCH_BYTES
        batches[-1].append(one)
        room -= size(one)
    return batches


def spread_out(
    work: Callable[..., T],
    batches: Sequence[Given],
    tick: Tick,
    *,
    needs: Needs = "nothing",
    here: Callable[..., T] | None = None,
) -> Generator[tuple[int, T], None, None]:
    """What ``work(*batch, told)`` gives for each batch, with its place, each as it is there.

    ``work`` is a function of a module that other processes can load without Django; it calls ``told`` with how far it
    is. ``tick`` gets what all batches at work say together, several times a second, and may raise to end the work.
    ``needs``: what has to be where the work is done; ``here``: how this process does it, if not by ``work``.

    Raises what ``work`` raises.
    """
    left = dict(enumerate(batches))
    with _Tally(len(batches)) as tally:
        for opened in _ways(len(batches) if tally.is_there else 0, needs):
            try:
                with opened() as spread:
                    log.info("work is shared out", work=work.__name__, parts=len(left), among=type(spread).__name__)
                    yield from _by_others(spread, work, left, tally.at(needs), tally, tick)
            except UnreachedError as error:
                log.warning("parts are worked out without other processes", why=str(error))
            if not left:
                return
        for place, given in list(left.items()):
            done_before = tally.total()

            def told(so_far: int, done_before: int = done_before) -> None:
                tick(done_before + so_far)

            found = (here or work)(*given, told)
            tally.clear(place)
            yield place, found


def _ways(batches: int, needs: Needs) -> Iterator[Callable[[], AbstractContextManager[Spread]]]:
    """The ways to come by other processes, best first; none for one batch at most, or for one processor."""
    config = get_config()
    if config.dask and needs != "this machine" and batches > 1:
        yield partial(_opened, "everyshelf.cluster.dask", config.dask)
    count = min(config.processes, batches)
    if count > 1:
        yield partial(_opened, "everyshelf.cluster.processes", count)


def _opened(name: str, given: str | int) -> AbstractContextManager[Spread]:
    """By name, because few jobs need what takes a while to load, or is not installed at all."""
    try:
        module = importlib.import_module(name)
    except ImportError as error:
        raise UnreachedError(f"what reaches other processes is not installed: {error}") from error
    found: AbstractContextManager[Spread] = module.opened(given)
    return found


def _by_others(
    spread: Spread, work: Callable[..., T], left: dict[int, Given], at: _TallyAt, tally: _Tally, tick: Tick
) -> Iterator[tuple[int, T]]:
    pending = [spread.submit(_part, work, place, given, at) for place, given in left.items()]
    failed: list[str] = []
    for place, found, why in spread.as_done(pending, lambda: tick(tally.total())):
        tally.clear(place)
        if why:
            failed.append(why)  # done again by this process, which tells its own reason
            continue
        del left[place]
        yield place, found
    if failed:
        raise UnreachedError(f"{len(failed)} parts failed: {failed[0]}")


def _part(work: Callable[..., T], place: int, given: Given, at: _TallyAt) -> tuple[int, T | None, str]:
    """One batch, in another process: its place, and what was found or why nothing was."""
    try:
        with at.told(place) as told:
            return place, work(*given, told), ""
    except Exception as error:
        return place, None, f"{type(error).__name__}: {error}"


@dataclass(frozen=True)
class _TallyAt:
    """Where other processes say how far they are. Those that do not find it do not see the data folder either, which
    may be what they need."""

    path: str
    word: bytes
    is_needed: bool

    @contextlib.contextmanager
    def told(self, place: int) -> Iterator[Told]:
        """Say it, for one batch. Raises ``OSError`` where it is needed and this machine does not have it."""
        if not self.is_needed and not Path(self.path).is_file():
            yield lambda so_far: None
            return
        with Path(self.path).open("r+b") as file, mmap.mmap(file.fileno(), 0) as held:
            if held[:_WORD_BYTES] != self.word:
                raise OSError(f"{self.path} is of another installation")

            def told(so_far: int) -> None:
                _SLOT.pack_into(held, _WORD_BYTES + place * _SLOT.size, so_far)

            yield told


class _Tally:
    """How far the batches at work are: a number for each in a file that all processes share."""

    def __init__(self, places: int) -> None:
        self._file = get_config().scratch / f"tally-{secrets.token_hex(8)}"
        self.is_there = False
        self._word, self._places = secrets.token_bytes(_WORD_BYTES), places

    def __enter__(self) -> _Tally:
        with contextlib.suppress(OSError):  # reading goes on while the disk is full
            self._file.parent.mkdir(parents=True, exist_ok=True)
            self._file.write_bytes(self._word + bytes(_SLOT.size * max(1, self._places)))
            self.is_there = True
        return self

    def at(self, needs: Needs) -> _TallyAt:
        """What other processes are given."""
        return _TallyAt(str(self._file), self._word, needs == "the data folder")

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(OSError):
            os.unlink(self._file)

    def total(self) -> int:
        """What all batches at work say together."""
        try:
            said = self._file.read_bytes()[_WORD_BYTES:]
        except OSError:
            return 0
        return sum(one for (one,) in _SLOT.iter_unpack(said))

    def clear(self, place: int) -> None:
        """Forget a batch that ended: whoever asked counts it."""
        with contextlib.suppress(OSError), self._file.open("r+b") as file:
            file.seek(_WORD_BYTES + place * _SLOT.size)
            file.write(bytes(_SLOT.size))

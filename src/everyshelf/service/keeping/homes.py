"""Use cases of administrators: make stores, say where the segments of each are to live, and have them moved there.

Where those of the main store live ``EVERYSHELF_STORE`` says if it is set; else whoever runs the installation says it
while it runs, as for all other stores. Either way a job moves what lies elsewhere, and goes on with every segment that
is sealed later.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from datetime import timedelta
from typing import Any

from django.contrib.auth.models import User
from django.utils import timezone

from everyshelf.core.content.scanning import directory_name, segment_names
from everyshelf.core.content.stores import MAIN, MAIN_NAME, checked_name, store_of, told_name
from everyshelf.core.errors import ConflictError, RefusedError
from everyshelf.destinations.reach import Reach
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.clock import is_recent
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_place, get_store
from everyshelf.service.base.room import require_room
from everyshelf.service.base.turns import turns
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.keeping.shrinking import Progress
from everyshelf.service.log.actions import note
from everyshelf.service.people.accounts import require_admin
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.shelves import known_store, store_names
from everyshelf.service.shelves.models import Shelf
from everyshelf.storage.addresses import Address, BucketAddress, is_bucket, parse_address
from everyshelf.storage.home import Home, HomePlace
from everyshelf.storage.moving import Moved, move, settle, tried, where

KIND = "move-store"
FOLDER = "folder"
_SEALED_SECONDS, _BRIEFLY_SECONDS, _LOOK_AGAIN_SECONDS = 10.0, 5.0, 0.3
_FEW = 5
_AGAIN_MINUTES = 5  # after a run that failed: the service that has the bucket may be away for a while


def home_state() -> dict[str, Any]:
    """Where segments live, and how far they are from there."""
    place = get_place()
    home, told = place.home(), where(place, MAIN)
    lives = home.lives()
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    return {
        "home": lives.told if lives is not None else "",
        "at_home": told.at_home,
        "to_move": told.waiting,
        "fetched": place.fetched.volume() if any(is_bucket(home.address_of(name)) for name in home.names) else 0,
        "moving": job_json(newest) if newest is not None else None,
        "stores": [_state_of(place, home, name) for name in store_names()],
    }


def _state_of(place: HomePlace, home: Home, name: str) -> dict[str, Any]:
    told, lives = where(place, name), home.lives(name)
    return {
        "name": told_name(name),
        "home": lives.told if lives is not None else "",
        "shelves": Shelf.objects.filter(store=name).count(),
        "at_home": told.at_home,
        "to_move": told.waiting,
    }


def list_stores() -> list[dict[str, Any]]:
    """The stores among which whoever makes a shelf may choose, the main one first."""
    return [{"name": told_name(name)} for name in store_names()]


def make_store(caller: Caller, name: str, to: str, endpoint: str = "", *, take_over: bool = False) -> dict[str, Any]:
    """Make a store whose segments live at ``to``, which is tried first; for administrators. Raises ``InvalidError``,
    ``ConflictError``, ``OutOfReachError``, ``RefusedError``."""
    require_admin(caller)
    store, place = checked_name(name), get_place()
    address = _wanted(to, endpoint)
    _check_reach(address)
    with turns.given_back(), place.moving(_brief_wait()):
        if store in place.home().names:
            raise ConflictError(
                f"there is a store {told_name(store)} already",
                code="storage.made",
                hint=f"Choose another name, or let it live elsewhere: everyshelf storage move PLACE --store {name}",
            )
        home = tried(place, address, store, take_over=take_over)
        with one_act():  # the same request sent twice at once waits here, and gets the same answer
            note(caller, "storage.made", store, lives=address.told if address is not None else FOLDER)
            place.settle(home)
    return _state_of(place, home, store)


def _brief_wait() -> Callable[[], None]:
    """To be called while a run moves segments: waits for one that has little to move, and refuses then."""
    ends = time.monotonic() + _BRIEFLY_SECONDS

    def waiting() -> None:
        if time.monotonic() > ends:
            raise ConflictError(
                "segments are being moved just now", code="storage.moving", hint="Repeat this when the job has ended."
            )
        time.sleep(_LOOK_AGAIN_SECONDS)

    return waiting


def start_moving(caller: Caller, to: str, endpoint: str = "", *, store: str = MAIN, take_over: bool = False) -> Job:
    """Let the segments of a store live at ``to`` (``folder``, the path of another folder, or the address of a bucket)
    from now on, and move them by a job; for administrators. Raises ``InvalidError``, ``RefusedError``."""
    require_admin(caller)
    store = known_store(store)
    address, settled = _wanted(to, endpoint), settled_address()
    if store == MAIN and settled is not None and address != settled:
        raise RefusedError(
            f"EVERYSHELF_STORE says that versions live at {settled.told}",
            code="storage.settled",
            hint="Change EVERYSHELF_STORE, or remove it, and start the service again.",
        )
    _check_reach(address)
    with one_act():
        note(caller, "storage.move", address.told if address is not None else FOLDER, store=told_name(store))
        parameters = {"to": str(address or ""), "take_over": take_over, "store": store}
        return start_job(caller, KIND, None, parameters)


def _check_reach(address: Address | None) -> None:
    if isinstance(address, BucketAddress) and address != settled_address():
        Reach(get_config().reach).check_name(*address.host)


def remove_store(caller: Caller, name: str) -> None:
    """Remove a store in which no shelf and no segment lives any more; for administrators."""
    require_admin(caller)
    store, place = known_store(name), get_place()
    if store == MAIN:
        raise RefusedError("the main store stays", code="storage.in_use", hint="Move it: everyshelf storage move PLACE")
    with turns.given_back(), place.moving(_brief_wait()), one_act():
        shelves = list(Shelf.objects.filter(store=store).order_by("key").values_list("key", flat=True)[:_FEW])
        if shelves:
            raise RefusedError(
                f"shelves live in the store {store}: {', '.join(shelves)}",
                code="storage.in_use",
                hint=f"Move them first: everyshelf shelf change --shelf {shelves[0]} --store {MAIN_NAME}",
            )
        if any(store_of(one) == store for one in segment_names(place)):
            raise RefusedError(
                f"the store {store} still has segments",
                code="storage.in_use",
                hint="Have the storage tidied until nothing in it is needed there: everyshelf storage tidy, twice.",
            )
        note(caller, "storage.remove", store)
        place.settle(place.home().without(store))


def _wanted(to: str, endpoint: str) -> Address | None:
    return None if to == FOLDER else parse_address(to, endpoint)


def settled_address() -> Address | None:
    """What EVERYSHELF_STORE says; None where it says nothing."""
    config = get_config()
    return parse_address(config.store, config.store_endpoint) if config.store else None


def move_store(place: HomePlace, parameters: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Settle where segments live, if the run was started for that, and move them; waits for a run before it."""

    def waiting() -> None:
        progress(0, 1, "another move")
        time.sleep(_LOOK_AGAIN_SECONDS)

    with place.moving(waiting):
        return _moved(place, parameters, progress)


def _moved(place: HomePlace, parameters: dict[str, Any], progress: Progress) -> dict[str, Any]:
    if "to" in parameters:
        address = parse_address(parameters["to"]) if parameters["to"] else None
        store = parameters.get("store", MAIN)
        settle(place, address, store, take_over=parameters.get("take_over", False))
    _seal_all(place, progress)

    def told(part: int, total: int) -> None:
        require_room()  # what is brought back must not fill the disk
        progress(part, total, "segments")

    done = move(place, told)
    return {"segments": done.segments, "bytes": done.bytes, "cleared": done.cleared, "held_back": _held_back(done)}


def _held_back(done: Moved) -> str:
    wrong = [f"{len(names)} {what}" for names, what in ((done.missing, "missing"), (done.changed, "changed")) if names]
    if not wrong:
        return ""
    return (
        f"segments in the bucket that are not what was sent there: {' and '.join(wrong)}; everyshelf verify names the "
        "versions harmed, everyshelf storage heal replaces what is damaged"
    )


def _seal_all(place: HomePlace, progress: Progress) -> None:
    """Ask all processes to seal their segments, and wait a little for those that are quick."""
    meant = _unsealed(place)
    place.ask_to_seal()
    get_store().segments.seal_if_asked()
    ends = time.monotonic() + _SEALED_SECONDS
    while meant & _unsealed(place) and time.monotonic() < ends:
        progress(0, 1, "segments")
        time.sleep(0.2)


def _unsealed(place: HomePlace) -> set[str]:
    """Segments that hold something and have no directory yet."""
    names, found = set(place.names()), set()
    for name in segment_names(place):
        if directory_name(name) not in names:
            with contextlib.suppress(FileNotFoundError):
                if place.size(name):
                    found.add(name)
    return found


def move_when_due() -> None:
    """Start a run where a segment lies elsewhere than it is to live, or EVERYSHELF_STORE was changed; ask processes to
    seal theirs when the time for that has come."""
    place, settled = get_place(), settled_address()
    home = place.home()
    parameters = {} if settled is None or home.lives() == settled else {"to": str(settled)}
    is_away = any(map(home.address_of, home.names))
    if not (parameters or is_away or where(place).waiting_segments):
        return
    if is_away:
        _ask_to_seal(place)
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    if newest is not None:
        if newest.state in (State.WAITING, State.RUNNING):
            return
        stopped = newest.state != State.DONE and is_recent(newest.created, timedelta(minutes=_AGAIN_MINUTES))
        if stopped or (newest.state == State.CANCELLED and not parameters):
            return  # whoever cancelled it begins it again
    if not (parameters or where(place).waiting_segments):
        return
    person = User.objects.filter(is_staff=True, is_active=True).order_by("pk").first()
    if person is not None:
        start_job(Caller(person), KIND, None, parameters)


def _ask_to_seal(place: HomePlace) -> None:
    """So that what is acknowledged lies on this machine only for minutes."""
    minutes = get_config().store_minutes
    asked_before = timezone.now().timestamp() - place.asked_ns() / 1e9
    if 0 <= asked_before < minutes * 60:
        return
    if _unsealed(place):
        place.ask_to_seal()

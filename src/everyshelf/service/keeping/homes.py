"""Use cases of administrators: say where the store's segments are to live, and have them moved there.

``EVERYSHELF_STORE`` says it where it is set; else whoever runs the installation says it while it runs. Either way a job
moves what lies elsewhere, and goes on with every segment that is sealed later.
"""

from __future__ import annotations

import contextlib
import time
from datetime import timedelta
from typing import Any

from django.contrib.auth.models import User
from django.utils import timezone

from everyshelf.core.content.scanning import directory_name, segment_names
from everyshelf.core.errors import RefusedError
from everyshelf.destinations.reach import Reach
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_place, get_store
from everyshelf.service.base.room import require_room
from everyshelf.service.jobs.actions import job_json, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.keeping.shrinking import Progress
from everyshelf.service.log.actions import note
from everyshelf.service.people.accounts import require_admin
from everyshelf.service.rights import Caller
from everyshelf.storage.addresses import BucketAddress, parse_bucket
from everyshelf.storage.home import HomePlace
from everyshelf.storage.moving import Moved, move, settle, where

KIND = "move-store"
FOLDER = "folder"
_SEALED_SECONDS, _LOOK_AGAIN_SECONDS = 10.0, 0.3
_AGAIN_MINUTES = 5  # after a run that failed: the service that has the bucket may be away for a while


def home_state() -> dict[str, Any]:
    """Where segments live, and how far they are from there."""
    place = get_place()
    home, told = place.home(), where(place)
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    bucket = home.bucket
    return {
        "home": bucket.told if bucket is not None else "",
        "at_home": told.at_home,
        "to_move": told.waiting,
        "fetched": place.fetched.volume() if bucket is not None else 0,
        "moving": job_json(newest) if newest is not None else None,
    }


def start_moving(caller: Caller, to: str, endpoint: str = "", *, take_over: bool = False) -> Job:
    """Let the segments live at ``to`` (``folder``, or the address of a bucket) from now on, and move them by a job; for
    administrators. Raises ``InvalidError``, ``RefusedError``."""
    require_admin(caller)
    address = _wanted(to, endpoint)
    settled = settled_address()
    if settled is not None and address != settled:
        raise RefusedError(
            f"EVERYSHELF_STORE says that versions live at {settled.told}",
            code="storage.settled",
            hint="Change EVERYSHELF_STORE, or remove it, and start the service again.",
        )
    if address is not None and settled is None:
        Reach(get_config().reach).check_name(*address.host)
    with one_act():
        note(caller, "storage.move", address.told if address is not None else FOLDER)
        return start_job(caller, KIND, None, {"to": str(address or ""), "take_over": take_over})


def _wanted(to: str, endpoint: str) -> BucketAddress | None:
    return None if to == FOLDER else parse_bucket(to, endpoint)


def settled_address() -> BucketAddress | None:
    """What EVERYSHELF_STORE says; None where it says nothing."""
    config = get_config()
    return parse_bucket(config.store, config.store_endpoint) if config.store else None


def move_store(place: HomePlace, parameters: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Settle where segments live, if the run was started for that, and move them; waits for a run before it."""

    def waiting() -> None:
        progress(0, 1, "another move")
        time.sleep(_LOOK_AGAIN_SECONDS)

    with place.moving(waiting):
        return _moved(place, parameters, progress)


def _moved(place: HomePlace, parameters: dict[str, Any], progress: Progress) -> dict[str, Any]:
    if "to" in parameters:
        address = parse_bucket(parameters["to"]) if parameters["to"] else None
        settle(place, address, take_over=parameters.get("take_over", False))
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
    parameters = {} if settled is None or home.bucket == settled else {"to": str(settled)}
    if not (parameters or home.address or where(place).waiting_segments):
        return
    if home.address:
        _ask_to_seal(place)
    newest = Job.objects.filter(kind=KIND).order_by("-pk").first()
    if newest is not None:
        if newest.state in (State.WAITING, State.RUNNING):
            return
        stopped = newest.state != State.DONE and newest.created > timezone.now() - timedelta(minutes=_AGAIN_MINUTES)
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
    if asked_before < minutes * 60:
        return
    if _unsealed(place):
        place.ask_to_seal()

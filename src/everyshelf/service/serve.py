"""Starting the service: processes that answer, the job worker beside them, all data in one folder."""

from __future__ import annotations

import atexit
import contextlib
import faulthandler
import itertools
import os
import secrets
import signal
import socket
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

from everyshelf.core.errors import BrokenError, EveryShelfError
from everyshelf.service.base.config import get_config

_SEAL_SECONDS = 2.0
_LOOKS_BETWEEN_GIVING_BACK = 15
_OBJECTS_BETWEEN_ROUNDS = 10_000
# Whoever reads a file or asks the records lets other threads compute meanwhile, and waits so long until it may go on
# beside one that does not stop. At the usual 5 ms thousands of small reads took 25 times as long as alone, at this 4.
TURN_SECONDS = 0.0001


def prepare() -> tuple[str, str] | None:
    """Bring the records up to date; at the very first start make an owner, and return name and password once."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "everyshelf.service.settings")
    import django
    from django.core.management import call_command
    from django.db import DatabaseError

    django.setup()
    try:
        call_command("migrate", interactive=False, verbosity=0)
    except DatabaseError as error:
        raise BrokenError(
            f"the records in {get_config().database} cannot be read or written: {error}",
            code="serve.records",
            hint="Look for free space. If they are damaged, copy the file back from a backup; contents lie apart.",
        ) from error
    from django.contrib.auth.models import User

    from everyshelf.service.base.context import clear_scratch
    from everyshelf.service.base.keys import check_keys
    from everyshelf.service.people.actions import create_person

    check_keys()
    clear_scratch()
    _settle_promotions()
    if User.objects.exists():
        return None
    name = os.environ.get("EVERYSHELF_OWNER", "owner")
    password = os.environ.get("EVERYSHELF_OWNER_PASSWORD") or secrets.token_urlsafe(12)
    create_person(name, name.capitalize(), password, staff=True)
    return None if "EVERYSHELF_OWNER_PASSWORD" in os.environ else (name, password)


def accounts_here() -> Any:
    """The use cases of accounts, for whoever can write the data folder; a service may run on it meanwhile."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "everyshelf.service.settings")
    import django

    django.setup()
    from everyshelf.service.people import accounts

    return accounts


def damage() -> list[str]:
    """What is known to be damaged, a line each: ranges of the content store, and the key of secrets."""
    from everyshelf.service.base.context import get_store
    from everyshelf.service.base.keys import check_keys

    wrong = check_keys()
    places = [f"{place}; everyshelf verify tells which versions it harms" for place in get_store().segments.damage()]
    return [*places, wrong] if wrong else places


def _settle_promotions() -> None:
    """Finish or undo what a crash cut short, before the first request can open another journal."""
    from everyshelf.service.environments.actions.promotion import finish_or_undo_all

    finish_or_undo_all()


def serve(ready: Callable[[], None]) -> None:
    """Serve until SIGTERM or SIGINT; ``ready`` is called once connections are taken."""
    from everyshelf.core.reading.forking import ForkServer
    from everyshelf.service.base.context import fork_readers_with, get_place, get_store, get_trees
    from everyshelf.service.base.logs import set_up_logs
    from everyshelf.service.base.processes import Forked, Kept, beat_file, keep_alive
    from everyshelf.service.base.room import keep_reserve
    from everyshelf.service.web.job_kinds import load
    from everyshelf.service.web.server import listen

    faulthandler.enable()  # should a library take a process down, its last lines say where
    set_up_logs()
    load()
    _load_application()
    config = get_config()
    listener = listen(config.host, config.port)
    # What the children are not to share: a segment that is written, connections to the records.
    get_store().close()
    get_trees.cache_clear()
    get_store.cache_clear()
    get_place.cache_clear()
    _close_connections()
    stopping: list[int] = []
    for number in (signal.SIGTERM, signal.SIGINT):
        signal.signal(number, lambda got, _frame: stopping.append(got))
    keep_reserve()
    beat_file().touch(mode=0o600)  # the worker has a minute from now on to be seen
    fork_server = ForkServer()
    fork_readers_with(fork_server)
    children = [Kept("fork server of reading processes", fork_server.launch)]
    children += [
        Kept(f"web process {number + 1}", lambda: Forked(lambda: _answer(listener))) for number in range(config.workers)
    ]
    children.append(Kept("worker", lambda: Forked(lambda: _work(listener))))
    ready()
    keep_alive(children, lambda: bool(stopping), keep_reserve)
    _end()


def _end() -> None:
    """End this process after all that is registered for its end, but without taking the interpreter apart: the engine
    of tables complains then, at length, of what it has left."""
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError):
            stream.flush()
    os._exit(0)


def _load_application() -> None:
    """Load what answers and what works on jobs, so that the children share it instead of loading it each."""
    import gc

    from django.urls import get_resolver

    import everyshelf.service.worker
    import everyshelf.service.wsgi  # noqa: F401

    _ = get_resolver().url_patterns
    gc.collect()
    gc.freeze()  # what is here now is never garbage: a child that looks through it would copy its pages
    # An answer makes tens of thousands of objects that end with it; at the usual threshold a tenth of its time would go
    # into looking for cycles among them.
    gc.set_threshold(_OBJECTS_BETWEEN_ROUNDS)
    sys.setswitchinterval(TURN_SECONDS)


def _work(listener: socket.socket) -> None:
    """The work of the job worker."""
    listener.close()
    signal.signal(signal.SIGTERM, _stop)
    from everyshelf.service.base.processes import keep_few_arenas
    from everyshelf.service.worker import work

    keep_few_arenas()
    work()


def _answer(listener: socket.socket) -> None:
    """The work of a web process: answer until SIGTERM."""
    # Before anything is loaded: a signal meanwhile would go to the handler of the first process, and be lost.
    signal.signal(signal.SIGTERM, _stop)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # Ctrl+C reaches the whole group; the first process ends the others
    from everyshelf.service.base.context import get_store, start_readers
    from everyshelf.service.base.processes import keep_few_arenas
    from everyshelf.service.web.server import make_server
    from everyshelf.service.wsgi import application

    keep_few_arenas()
    config = get_config()
    _open_store()
    start_readers()
    threading.Thread(target=_look_after_process, daemon=True).start()
    server = make_server(
        application, listener, scratch=config.scratch, most_bytes=config.max_upload_bytes, proxy=config.proxy
    )
    try:
        server.run()
    finally:
        # A second signal must not cut off what makes the stop an orderly one.
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        get_store().close()  # seals its segment
        _end()


def _open_store() -> None:
    """Open the store before there are threads: two that opened it at once would each have one, and one would wait for
    what the other wrote."""
    from everyshelf.service.base.context import get_store

    with contextlib.suppress(EveryShelfError, OSError):  # the first request meets the same, and says so
        get_store()


def _look_after_process() -> None:
    """Seal this process's segment soon after that was asked for, even while nobody calls, and give back memory."""
    from everyshelf.service.base.context import get_store, rest_readers
    from everyshelf.service.base.processes import give_back_memory

    for look in itertools.count(1):
        time.sleep(_SEAL_SECONDS)
        with contextlib.suppress(EveryShelfError, OSError):  # the next request meets the same, and says so
            get_store().segments.seal_if_asked()
        if look % _LOOKS_BETWEEN_GIVING_BACK == 0:
            give_back_memory()
            rest_readers()


def _close_connections() -> None:
    from django.db import connections

    connections.close_all()


def _stop(*_: Any) -> None:
    raise SystemExit(0)

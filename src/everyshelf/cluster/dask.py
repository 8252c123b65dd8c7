"""A Dask cluster as the processes that work out parts.

The scheduler's workers need this package, in the same version, and the engine that tables are read with. A part whose
worker went down is worked out again by another (``distributed`` does that by itself).
"""

from __future__ import annotations

import contextlib
import socket
import time
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import distributed
from distributed.client import FutureCancelledError

from everyshelf.cluster.handing_over import HandedFile, HandingOver, forget_copies
from everyshelf.core.spreading import UnreachedError

_SECONDS = 5
_TICK_SECONDS = 0.1
_TRIES = 2  # of a part that failed; one whose worker went down is tried again without counting


@contextlib.contextmanager
def opened(scheduler: str) -> Iterator[DaskSpread]:
    """The cluster of a scheduler, ``tcp://HOST:PORT``. Raises ``UnreachedError`` where it does not answer or has no
    workers."""
    try:
        client = distributed.Client(  # type: ignore[no-untyped-call]
            scheduler, timeout=_SECONDS, set_as_default=False, name="every-shelf"
        )
    except (OSError, ValueError, RuntimeError) as error:
        raise UnreachedError(f"{scheduler} does not answer: {error}") from error
    handing = None
    try:
        if not client.scheduler_info()["workers"]:
            raise UnreachedError(f"{scheduler} has no workers")
        try:
            handing = HandingOver(_own_address(scheduler))
        except OSError as error:
            raise UnreachedError(f"files cannot be handed over to {scheduler}: {error}") from error
        yield DaskSpread(client, handing)
    finally:
        if handing is not None:
            with contextlib.suppress(Exception):  # a worker that went down took its copies along
                client.run(forget_copies, handing.addresses, on_error="ignore")
            handing.close()
        with contextlib.suppress(Exception):
            client.close(timeout=_SECONDS)  # type: ignore[no-untyped-call]


class DaskSpread:
    """See ``core.spreading.Spread``."""

    def __init__(self, client: distributed.Client, handing: HandingOver) -> None:
        self._client, self._handing = client, handing

    def hand_over(self, path: Path) -> HandedFile:
        """Make a file reachable for the workers."""
        return self._handing.hand_over(path)

    def submit(self, work: Callable[..., Any], *given: Any, soon: bool = False) -> Any:
        """Have something worked out by a worker."""
        try:
            return self._client.submit(work, *given, pure=False, retries=_TRIES, priority=1 if soon else 0)
        except (OSError, RuntimeError) as error:
            raise UnreachedError(str(error)) from error

    def as_done(self, pending: Sequence[Any], tick: Callable[[], None] | None = None) -> Iterator[Any]:
        """The results, each as it is there; it is let go of when the next is asked for."""
        waiting = list(pending)
        try:
            coming = distributed.as_completed(waiting, loop=self._client.loop)  # type: ignore[no-untyped-call]
        except (OSError, RuntimeError) as error:
            raise UnreachedError(str(error)) from error
        while waiting:
            while tick is not None and not coming.has_ready():  # type: ignore[no-untyped-call]
                tick()
                time.sleep(_TICK_SECONDS)
            try:
                future = next(coming)
                waiting.remove(future)
                found = future.result()
                future.release()
            except (Exception, FutureCancelledError) as error:
                # Whatever went wrong there, here it is done right, or fails with its own reason.
                raise UnreachedError(f"{type(error).__name__}: {error}") from error
            yield found


def _own_address(scheduler: str) -> str:
    """The address of this machine on the way to the scheduler; nothing is sent to find out."""
    found = urlsplit(scheduler)
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as way:
        way.connect((found.hostname or "127.0.0.1", found.port or 8786))
        return str(way.getsockname()[0])

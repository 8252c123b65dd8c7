"""How much of a merge is worked out while somebody waits for the answer; the rest is left to a job."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from everyshelf.core.history.merging import Trio
from everyshelf.core.reading.worker import WHOLE_SECONDS
from everyshelf.service.base.config import get_config
from everyshelf.service.base.working import WorkingError
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import Shelf

Progress = Callable[[int, int, str], None]
_REQUEST_SECONDS = 20.0
_LARGE_BYTES = 16 * 1024 * 1024  # of the three versions of one artifact together


class MergeReadingError(WorkingError):
    """A job is working the merge out."""

    code = "merge.reading"

    def __init__(self, job: str, left: int) -> None:
        super().__init__(
            f"this merge takes longer than an answer may: a job works out the {left} artifacts that are left", job
        )


class Pace:
    """Tells which artifacts may be merged now. Without a budget (in a job) all may, and progress is told."""

    def __init__(self, *, total: int = 0, progress: Progress | None = None) -> None:
        self._end = None if progress else time.monotonic() + get_config().merge_seconds
        self._progress, self._total, self._done = progress, total, 0
        self.left = 0

    @property
    def is_job(self) -> bool:
        """True where nobody waits for an answer."""
        return self._progress is not None

    @property
    def seconds(self) -> float:
        """Processor time for one artifact."""
        return WHOLE_SECONDS if self.is_job else _REQUEST_SECONDS

    def may_run(self, trio: Trio) -> bool:
        """Whether to merge this artifact now; counts those left."""
        if self._progress is not None:
            self._progress(self._done, max(self._total, self._done + 1), trio.path)
            self._done += 1
            return True
        assert self._end is not None
        size = sum(e.size for e in (trio.base, trio.target, trio.source) if e is not None)
        if time.monotonic() < self._end and size < _LARGE_BYTES:
            return True
        self.left += 1
        return False

    def finish(self, person: Any, shelf: Shelf, parameters: dict[str, Any]) -> None:
        """Return if nothing is left; else start the job that works it out and raise ``MergeReadingError``."""
        if self.left:
            job = start_job(Caller(person), "merge", shelf, parameters)
            raise MergeReadingError(job.uid, self.left)

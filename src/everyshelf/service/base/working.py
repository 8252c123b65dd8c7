"""What takes longer than an answer may is worked out by a job."""

from __future__ import annotations

from everyshelf.core.errors import ConflictError


class WorkingError(ConflictError):
    """A job works out what was asked for. ``facts["job"]`` names it, and ``facts["again"]`` says that the answer is
    there when it is asked for again afterwards; clients go by that, whatever the code is."""

    keeps = True  # the job it names
    hint = "Ask again when that job is done; the client, the command line and the console do so by themselves."

    def __init__(self, message: str, job: str) -> None:
        super().__init__(message, job=job, again=True)

"""The log of the service's processes."""

from __future__ import annotations

import contextlib
import logging
import os
import sys
from typing import Any

import structlog


class _Logger:
    """Prints lines, and goes on where that cannot be done: a full disk must not turn an answer into a failure."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream

    def msg(self, message: str) -> None:
        """Print one line."""
        with contextlib.suppress(OSError, ValueError):
            print(message, file=self._stream, flush=True)

    log = debug = info = warn = warning = error = critical = failure = fatal = exception = msg


def set_up_logs() -> None:
    """Structured lines on stderr, from the level EVERYSHELF_LOG names."""
    level = getattr(logging, os.environ.get("EVERYSHELF_LOG", "WARNING").upper(), logging.WARNING)
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.JSONRenderer(),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=lambda *_: _Logger(sys.stderr),
    )
    logging.getLogger("waitress").setLevel(logging.ERROR)
    logging.raiseExceptions = False  # a log that cannot be written (its disk is full) must cost no answer

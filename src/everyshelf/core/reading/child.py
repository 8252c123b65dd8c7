"""The reading process itself: answers a line with a line until its input ends. ``worker`` starts it and watches it."""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import resource
import select
import signal
import sys
import tempfile
from pathlib import Path
from typing import IO, Any

import msgspec

from everyshelf.core.errors import ConflictError, EveryShelfError, LimitError, StorageError, UnreadableError
from everyshelf.core.reading import messages
from everyshelf.core.reading.allowance import give_back
from everyshelf.core.reading.lasting import end_with_parent
from everyshelf.core.reading.messages import ReaderProblem, Reply, Spreading
from everyshelf.decoding import from_json

# The errors whose class crosses the pipe, since interfaces answer by class; any other is a mistake in the input.
FAMILIES: dict[str, type[EveryShelfError]] = {
    "conflict": ConflictError,
    "limit": LimitError,
    "storage": StorageError,
    "unreadable": UnreadableError,
}
NO_MEMORY = 3  # the status with which a process ends that may have no more
# The parent looks at what the child holds; what is asked for at once, and threads that only reserve, meet this bound.
_RESERVED_BYTES = 3 * 1024 * 1024 * 1024
_OBJECTS_BETWEEN_ROUNDS = 50_000


class LeftOut:
    """Passes for a finder of modules: says of what tables are read with for others that it is not installed. PyArrow
    loads pandas with the first array, which takes half a second and 60 MB, and nothing here works with it."""

    @staticmethod
    def find_spec(name: str, path: Any = None, target: Any = None) -> None:
        if name == "pandas":
            raise ModuleNotFoundError(f"{name} is left out of the reading process", name=name)


def serve(memory_bytes: int, spreading: Spreading | None = None) -> None:
    """Answer requests from standard input until it ends; of large tables with the processes of ``spreading``."""
    from everyshelf.core.compare.artifact import reader_failed
    from everyshelf.core.reading.tasks import answer
    from everyshelf.core.tables.options import limit_memory

    end_with_parent()
    if not any(isinstance(finder, LeftOut) for finder in sys.meta_path):
        sys.meta_path.insert(0, LeftOut())
    gc.freeze()
    gc.set_threshold(_OBJECTS_BETWEEN_ROUNDS)  # outlines are tens of thousands of objects, and no cycles
    limit_memory(memory_bytes // 2)
    with contextlib.suppress(ValueError, OSError):
        most = memory_bytes + _RESERVED_BYTES
        resource.setrlimit(resource.RLIMIT_DATA, (most, most))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    # Answers have a pipe of their own: whatever a library prints must not get between them.
    answers = os.fdopen(os.dup(1), "wb")
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    if spreading is not None:
        _use(spreading, answers)
    if not select.select([sys.stdin.buffer], [], [], 0)[0]:
        _get_ready()
    for line in sys.stdin.buffer:
        try:
            request = messages.request_from(line)
            limit_memory((request.memory or memory_bytes) // 2)
            reply = Reply(answer=msgspec.Raw(messages.line_of(answer(request))[:-1]))
        except EveryShelfError as error:
            reply = Reply(problem=_problem(error))
        except OSError as error:
            reply = Reply(problem=_problem(StorageError(f"the reading process: {error.strerror or error}")))
        except MemoryError:
            os._exit(NO_MEMORY)
        except Exception as error:
            # A mistake in a reader of ours or of another package: told as what it is, and the process goes on.
            reply = Reply(problem=ReaderProblem(reader_failed(error), "reader.failed", family="limit"))
        give_back()
        answers.write(messages.line_of(reply))
        answers.flush()


def _get_ready() -> None:
    """Read a table of one row while nothing is asked: what it loads and opens takes half a second, which the first
    question need not wait for."""
    from everyshelf.core.reading.tasks import answer

    with tempfile.TemporaryDirectory(prefix="everyshelf-") as folder, contextlib.suppress(Exception):
        file = Path(folder, "table.csv")
        file.write_bytes(b"key,number\n1,2\n")
        answer(messages.OutlineFile(rules="", file=messages.FileAt(file.name, str(file)), kind=None, most=1))


def _use(spreading: Spreading, answers: IO[bytes]) -> None:
    from everyshelf.core.spreading import UnreachedError, Use, spread_over

    module, _, function = spreading.opener.partition(":")

    def say(reply: Reply) -> None:
        answers.write(messages.line_of(reply))
        answers.flush()

    def opened() -> Any:
        try:
            return getattr(importlib.import_module(module), function)(spreading.address)
        except ImportError as error:
            raise UnreachedError(f"what reaches the other processes is not installed: {error}") from error

    spread_over(
        Use(
            opened,
            spreading.rows,
            tell=lambda done, total: say(Reply(done=(done, total))),
            missed=lambda why: say(Reply(missed=why)),
        )
    )


def _problem(error: EveryShelfError) -> ReaderProblem:
    family = next((name for name, kind in FAMILIES.items() if isinstance(error, kind)), "")
    return ReaderProblem(error.message, error.code, error.hint, family)


if __name__ == "__main__":
    os.nice(int(sys.argv[2]))
    serve(int(sys.argv[1]), from_json(sys.argv[3], Spreading) if len(sys.argv) > 3 else None)

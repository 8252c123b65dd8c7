"""A process that forks reading processes: they begin to work at once, and share what they have loaded.

A reading process that starts as a program takes a second of processor time to load its readers and the engine of
tables. A service starts many: one that took too much memory or time is ended, and the next question would wait until
another one has loaded. So a service starts ``serve`` once. It loads everything, has one thread, reads no file, and
forks a process for each message that comes over its socket (fork(2); unix(7), SCM_RIGHTS):

1. ``ForkServer.start`` sends a message, with three files: input and output of the new process, and a watch.
2. The number of the process comes back over the watch, and how it ended, once it did.
3. Closing the other end of the watch ends the new process. The system closes it when the program that asked ends.

The socket outlasts the process behind it: one that is started again goes on with the messages that wait.
"""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import pkgutil
import select
import selectors
import signal
import socket
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from typing import IO, Any

import msgspec

from everyshelf.core.reading import child, lasting
from everyshelf.core.reading.messages import Spreading
from everyshelf.decoding import from_json

_MOST_BYTES = 64 * 1024  # of a message
_PATIENCE_SECONDS = 60.0  # the process behind the socket may just be starting again
_UNKNOWN = 1  # in place of an exit code that nobody knows
_PACKAGES = ("everyshelf.core.tables", "everyshelf.core.reading")
# What NumPy and PyArrow bring along starts threads as soon as it is loaded.
_NO_THREADS = {"OPENBLAS_NUM_THREADS": "1", "JE_ARROW_MALLOC_CONF": "background_thread:false"}
_LIBRARIES = ("duckdb", "numpy", "pyarrow", "pyarrow.csv", "pyarrow.parquet", "everyshelf.core.spreading")


class Wanted(msgspec.Struct):
    """How a reading process is to be: see ``Worker``. ``folder``: where it keeps what does not fit into its memory."""

    memory: int
    nice: int
    folder: str
    spreading: Spreading | None = None


class Reading:
    """A reading process, with what of ``subprocess.Popen`` is needed of it."""

    def __init__(self, stdin: IO[bytes], stdout: IO[bytes], watch: socket.socket) -> None:
        self.stdin, self.stdout, self._watch = stdin, stdout, watch
        self._pid = 0
        self._handle = -1
        self.returncode: int | None = None

    @property
    def pid(self) -> int:
        """Its number; waits until there is one. Raises ``BrokenPipeError`` where there will be none."""
        if not self._pid:
            with contextlib.suppress(OSError):
                self._watch.settimeout(_PATIENCE_SECONDS)
                self._pid = int(self._watch.recv(32) or 0)
            if not self._pid:
                self.returncode = _UNKNOWN
                raise BrokenPipeError("no reading process was forked")
            with contextlib.suppress(OSError):
                self._handle = os.pidfd_open(self._pid)
        return self._pid

    def poll(self) -> int | None:
        """Its exit code, or None while it runs."""
        return self._ended(0)

    def wait(self, timeout: float | None = None) -> int:
        """Wait for its exit code; raises ``subprocess.TimeoutExpired``."""
        code = self._ended(timeout)
        if code is None:
            raise subprocess.TimeoutExpired("reading process", timeout or 0)
        return code

    def kill(self) -> None:
        """End it; does nothing to one that has ended."""
        with contextlib.suppress(OSError):
            if self.poll() is None and self.pid and self._handle >= 0:
                signal.pidfd_send_signal(self._handle, signal.SIGKILL)

    def close(self) -> None:
        """End it, and close what leads to it."""
        self.kill()
        self._watch.close()
        for pipe in (self.stdin, self.stdout):
            with contextlib.suppress(OSError):
                pipe.close()
        if self._handle >= 0:
            os.close(self._handle)
            self._handle = -1

    def _ended(self, timeout: float | None) -> int | None:
        if self.returncode is None:
            with contextlib.suppress(BrokenPipeError):
                _ = self.pid  # what comes first over the watch
        if self.returncode is None and _is_readable(self._watch, timeout):
            said = b""
            with contextlib.suppress(OSError):
                said = self._watch.recv(32)
            self.returncode = int(said) if said else _UNKNOWN  # it ended with the process that forked it
        return self.returncode


class ForkServer:
    """The way to the process that forks. Make it before a program forks those that use it; ``launch`` starts the
    process behind it, and starts it again."""

    def __init__(self) -> None:
        self._ours, self._theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)

    def launch(self) -> subprocess.Popen[bytes]:
        """Start the process behind it. It ends with the thread that calls this."""
        number = self._theirs.fileno()
        return lasting.begin(
            [sys.executable, "-m", "everyshelf.core.reading.forking", str(number)],
            pass_fds=(number,),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            env={**os.environ, **_NO_THREADS},
        )

    def start(self, wanted: Wanted) -> Reading:
        """A new reading process."""
        theirs_in, ours_in = os.pipe()
        ours_out, theirs_out = os.pipe()
        watch, theirs_watch = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        try:
            files = [theirs_in, theirs_out, theirs_watch.fileno()]
            socket.send_fds(self._ours, [msgspec.json.encode(wanted)], files)
        finally:
            theirs_watch.close()
            os.close(theirs_in)
            os.close(theirs_out)
        return Reading(os.fdopen(ours_in, "wb", buffering=0), os.fdopen(ours_out, "rb", buffering=0), watch)


def end(process: subprocess.Popen[bytes] | Reading) -> None:
    """End a reading process, whichever way it was started, and close what leads to it."""
    if isinstance(process, Reading):
        process.close()
        return
    process.kill()
    process.wait()
    for pipe in (process.stdin, process.stdout):
        with contextlib.suppress(OSError):
            pipe.close()  # type: ignore[union-attr]


def _is_readable(which: socket.socket, timeout: float | None) -> bool:
    # `select.select` refuses files whose numbers are over 1023, as a service with many connections has them.
    waiting = select.poll()
    waiting.register(which, select.POLLIN)
    return bool(waiting.poll(None if timeout is None else timeout * 1000))


# --- the process that forks ---------------------------------------------------------------


@dataclass(frozen=True)
class _Forked:
    pid: int
    watch: socket.socket


def serve(control: socket.socket) -> None:
    """Fork a reading process for each message, until the parent ends."""
    lasting.end_with_parent()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _load()
    gc.collect()
    gc.freeze()  # what all share is never looked through, which would copy its pages
    woken, wakes = socket.socketpair()
    for one in (woken, wakes):
        one.setblocking(False)
    signal.signal(signal.SIGCHLD, lambda number, frame: None)
    signal.set_wakeup_fd(wakes.fileno(), warn_on_full_buffer=False)
    forked: dict[int, _Forked] = {}
    with selectors.DefaultSelector() as selector:
        selector.register(control, selectors.EVENT_READ)
        selector.register(woken, selectors.EVENT_READ)
        while True:
            for key, _ in selector.select():
                if key.fileobj is control:
                    made = _fork(control)
                    forked[made.pid] = made
                    selector.register(made.watch, selectors.EVENT_READ, made)
                elif key.fileobj is woken:
                    with contextlib.suppress(BlockingIOError):
                        woken.recv(4096)
                else:  # the other end was closed
                    with contextlib.suppress(ProcessLookupError):
                        os.kill(key.data.pid, signal.SIGKILL)
                    selector.unregister(key.fileobj)
            for ended in _ended(forked):
                with contextlib.suppress(KeyError):
                    selector.unregister(ended.watch)
                ended.watch.close()


def _ended(forked: dict[int, _Forked]) -> list[_Forked]:
    """Those that ended; each watch is told how."""
    ended = []
    while forked:
        pid, status = os.waitpid(-1, os.WNOHANG)
        if not pid:
            break
        if (one := forked.pop(pid, None)) is not None:
            with contextlib.suppress(OSError):
                one.watch.send(b"%d" % os.waitstatus_to_exitcode(status))
            ended.append(one)
    return ended


def _fork(control: socket.socket) -> _Forked:
    message, files, *_ = socket.recv_fds(control, _MOST_BYTES, 3)
    if not message:
        os._exit(0)
    wanted = from_json(message, Wanted)
    parent = os.getpid()
    pid = os.fork()
    if not pid:
        _become(wanted, files, parent)
    watch = socket.socket(fileno=files[2])
    for file in files[:2]:
        os.close(file)
    with contextlib.suppress(OSError):
        watch.send(b"%d" % pid)
    return _Forked(pid, watch)


def _become(wanted: Wanted, files: list[int], parent: int) -> None:
    """Be the reading process, in the fork; does not return."""
    try:
        signal.set_wakeup_fd(-1)
        signal.signal(signal.SIGCHLD, signal.SIG_DFL)
        os.dup2(files[0], 0)
        os.dup2(files[1], 1)
        os.dup2(os.open(os.devnull, os.O_WRONLY), 2)
        os.closerange(3, 1 << 20)
        os.environ["TMPDIR"], tempfile.tempdir = wanted.folder, None
        lasting.parent_is(parent)
        os.nice(wanted.nice)
        child.serve(wanted.memory, wanted.spreading)
        os._exit(0)
    finally:
        os._exit(1)


def _load() -> None:
    """Load what reading processes work with. Nothing may be opened and no thread begun: a fork has neither."""
    sys.meta_path.insert(0, child.LeftOut())
    for name in _LIBRARIES:
        importlib.import_module(name)
    for name in _PACKAGES:
        package: Any = importlib.import_module(name)
        for module in pkgutil.iter_modules(package.__path__, f"{name}."):
            importlib.import_module(module.name)
    from everyshelf.core.kinds.recognise import recognise

    recognise("ready.json", b"{}")  # looks for kinds of other packages, and compiles what it looks with


if __name__ == "__main__":
    serve(socket.socket(fileno=int(sys.argv[1])))

"""Commands as processes of their own, forked from one that has imported what commands import.

Each still is a real process with its own folder, environment, arguments and exit code; only the second that Python takes
to import an HTTP client, a parser and the commands is spent once instead of at every command.
"""

from __future__ import annotations

import array
import atexit
import json
import os
import socket
import struct
import subprocess
import sys
import tempfile
import traceback
from pathlib import Path
from typing import NoReturn

_LENGTH = struct.Struct("!I")
_SECONDS = 180.0


class Prefork:
    """The forking process, and commands run through it."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="es-prefork-")
        self._address = str(Path(self._folder.name, "socket"))
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.support.prefork", self._address], stdout=subprocess.PIPE
        )
        assert self._process.stdout is not None
        self._process.stdout.readline()
        atexit.register(self._stop)

    def _stop(self) -> None:
        self._process.kill()
        self._process.wait()
        self._folder.cleanup()

    def run(self, arguments: list[str], folder: Path, environment: dict[str, str]) -> tuple[int, str, str]:
        """Exit code, stdout and stderr of ``everyshelf ARGUMENTS``."""
        request = json.dumps({"arguments": arguments, "folder": str(folder), "environment": environment}).encode()
        with (
            tempfile.TemporaryFile() as out,
            tempfile.TemporaryFile() as err,
            socket.socket(socket.AF_UNIX) as connection,
        ):
            connection.settimeout(_SECONDS)
            connection.connect(self._address)
            fds = array.array("i", [out.fileno(), err.fileno()])
            connection.sendmsg([_LENGTH.pack(len(request))], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, fds)])
            connection.sendall(request)
            code = json.loads(connection.recv(64))
            texts = []
            for file in (out, err):
                file.seek(0)
                texts.append(file.read().decode())
        return code, texts[0], texts[1]


_running: list[Prefork] = []


def prefork() -> Prefork:
    """The one of this process."""
    if not _running:
        _running.append(Prefork())
    return _running[0]


# --- the forking process ----------------------------------------------------------------


def _serve(address: str) -> NoReturn:
    for name in ("client", "desk", "desk.unsent", "desk.running", "desk.watching", "desk.unfolded", "core.kinds.rules"):
        __import__(f"everyshelf.{name}")
    for name in ("kinds.reading", "unfolding.whole", "content.store", "reading.worker", "reading.messages"):
        __import__(f"everyshelf.core.{name}")
    for name in ("main", "terminal", "session", "errors"):
        __import__(f"everyshelf.cli.{name}")
    from everyshelf.cli.main import COMMANDS

    for module, _ in COMMANDS.values():
        __import__(f"everyshelf.cli.commands.{module}")
    from everyshelf.cli.session import new_client

    new_client("http://127.0.0.1:9").close()  # the HTTP library loads its transport with the first client
    listener = socket.socket(socket.AF_UNIX)
    listener.bind(address)
    listener.listen(32)
    print("ready", flush=True)
    while True:
        connection, _ = listener.accept()
        if os.fork() == 0:
            listener.close()
            _handle(connection)
        connection.close()
        _reap()


def _reap() -> None:
    try:
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    except ChildProcessError:
        pass


def _handle(connection: socket.socket) -> NoReturn:
    head, fds, _, _ = socket.recv_fds(connection, _LENGTH.size, 2)
    size = _LENGTH.unpack(head)[0]
    data = b""
    while len(data) < size:
        data += connection.recv(size - len(data))
    pid = os.fork()
    if pid == 0:
        connection.close()
        _command(json.loads(data), fds)
    _, status = os.waitpid(pid, 0)
    connection.sendall(json.dumps(os.waitstatus_to_exitcode(status)).encode())
    os._exit(0)


def _command(request: dict[str, object], fds: list[int]) -> NoReturn:
    code = 1
    try:
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        os.dup2(fds[0], 1)
        os.dup2(fds[1], 2)
        os.chdir(str(request["folder"]))
        environment = request["environment"]
        assert isinstance(environment, dict)
        os.environ.clear()
        os.environ.update(environment)
        arguments = request["arguments"]
        assert isinstance(arguments, list)
        sys.argv = ["everyshelf", *arguments]
        from everyshelf.cli.main import run

        run()
    except SystemExit as end:
        code = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(code)


if __name__ == "__main__":
    _serve(sys.argv[1])

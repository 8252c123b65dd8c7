"""One real service on a free local port, started once for all tests that need it."""

from __future__ import annotations

import atexit
import os
import shutil
import signal
import socket
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

from everyshelf.client import Client, UnreachableError
from tests.support.records import copy_records

PASSWORD = "a-password-for-tests"
ALL_SCOPES = ["read", "write", "promote", "admin", "import"]


def free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


class Service:
    """A service in a process group of its own, with its data in a folder that goes away at the end."""

    def __init__(
        self,
        data: Path | None = None,
        *,
        settings: dict[str, str] | None = None,
        module: str = "everyshelf.cli.main",
    ) -> None:
        self._module = module
        self._own = data is None
        self.data = data or Path(tempfile.mkdtemp(prefix="es-service-"))
        if data is None:
            copy_records(self.data)
        self.repositories = self.data / "shared-repositories"  # those in it are listed for links
        self.repositories.mkdir(exist_ok=True)
        self.port = free_port()
        self.address = f"http://127.0.0.1:{self.port}"
        self._settings = settings or {}
        self._tokens: dict[tuple[str, tuple[str, ...]], str] = {}
        self.process: subprocess.Popen[bytes] | None = None
        self.start()

    def start(self) -> None:
        log = (self.data / "log.txt").open("ab")
        self.process = subprocess.Popen(
            [sys.executable, "-m", self._module, "serve", "--port", str(self.port)],
            env=self.environment(),
            stdout=log,
            stderr=log,
            start_new_session=True,
        )
        log.close()
        try:
            self._wait()
        except BaseException:
            if self.process.poll() is None:
                self.kill_group()
            raise

    def _wait(self) -> None:
        assert self.process is not None
        with Client(self.address, timeout_seconds=5) as client:
            for _ in range(6_000):  # a busy machine takes its time; a service that ended is noticed at once
                if self.process.poll() is not None:
                    raise AssertionError(f"the service ended: {(self.data / 'log.txt').read_text()[-2000:]}")
                try:
                    client.person()
                except UnreachableError:
                    time.sleep(0.05)
                else:
                    return
        raise AssertionError("the service did not answer")

    def kill_group(self) -> None:
        """SIGKILL to everything the service started."""
        assert self.process is not None
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()

    def stop(self) -> None:
        if self.process is not None and self.process.poll() is None:
            self.process.terminate()
            try:
                self.process.wait(15)
            except subprocess.TimeoutExpired:
                self.kill_group()
        if self._own:
            shutil.rmtree(self.data, ignore_errors=True)
            self.data.with_name(f"{self.data.name}.key").unlink(missing_ok=True)

    def log(self) -> str:
        """What the service printed."""
        return (self.data / "log.txt").read_text()

    def environment(self) -> dict[str, str]:
        """The variables that the service is started with."""
        return {
            **os.environ,
            "EVERYSHELF_DATA": str(self.data),
            "EVERYSHELF_OWNER": "owner",
            "EVERYSHELF_OWNER_PASSWORD": PASSWORD,
            "EVERYSHELF_LOG": "ERROR",
            "EVERYSHELF_REACH": "127.0.0.1,localhost",
            "EVERYSHELF_REPOSITORIES": f"{self.repositories}/*",
            **self._settings,
        }

    def run_python(self, code: str) -> str:
        """Run statements with the records of this service, and give what they print."""
        start = "import django; django.setup()\n"
        environment = {**self.environment(), "DJANGO_SETTINGS_MODULE": "everyshelf.service.settings"}
        command = [sys.executable, "-c", start + code]
        return subprocess.run(command, env=environment, check=True, stdout=subprocess.PIPE, text=True).stdout

    def token(self, name: str = "owner", scopes: list[str] | None = None) -> str:
        """A token; kept for the next call, because checking a password is slow on purpose."""
        wanted = (name, tuple(scopes or ALL_SCOPES))
        if wanted not in self._tokens:
            with Client(self.address) as client:
                label = f"test {time.monotonic_ns()}"
                made = client.sign_in_for_token(name, PASSWORD, label, list(wanted[1]), 1)
            self._tokens[wanted] = made.value
        return self._tokens[wanted]

    def client(self, name: str = "owner", scopes: list[str] | None = None) -> Client:
        return Client(self.address, self.token(name, scopes))


_shared: list[Service] = []
_lock = threading.Lock()


def shared_service() -> Service:
    """The one service most tests use; people ``owner``, ``keeper``, ``author`` and ``reader`` exist."""
    with _lock:
        if not _shared:
            service = Service()
            atexit.register(service.stop)
            with service.client() as client:
                for name in ("keeper", "author", "reader", "stranger"):
                    client.add_person(name, name.capitalize(), PASSWORD)
            _shared.append(service)
        return _shared[0]

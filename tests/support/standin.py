"""The stand-in platform as a process of its own, shared by the tests of one module run."""

from __future__ import annotations

import atexit
import functools
import itertools
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import httpx

TOKEN, PURSER = "platform-token-of-the-service", "platform-token-of-the-purser"
_spaces = itertools.count(1)


class Standin:
    """A running platform; ``kill`` and ``start`` as a test needs it."""

    def __init__(self) -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="es-standin-")
        self.file = Path(self._folder.name, "platform.sqlite")
        self._port = 0
        self.start()

    def start(self) -> None:
        """Start it, on the port it had."""
        command = [
            sys.executable,
            "-m",
            "everyshelf.standin",
            "--file",
            str(self.file),
        ]
        tokens = ["--token", f"the service={TOKEN}", "--token", f"purser={PURSER}"]
        self._process = subprocess.Popen(
            [*command, "--port", str(self._port), *tokens], stdout=subprocess.PIPE, text=True
        )
        assert self._process.stdout is not None
        self.address = self._process.stdout.readline().strip()
        self._port = int(self.address.rpartition(":")[2])

    def kill(self) -> None:
        """End it as a crash would."""
        self._process.kill()
        self._process.wait()
        if self._process.stdout is not None:
            self._process.stdout.close()

    def close(self) -> None:
        """End it and forget its state."""
        self.kill()
        self._folder.cleanup()

    def space(self) -> Space:
        """A space nobody else uses."""
        return Space(f"{self.address}/space-{next(_spaces)}")


class Space:
    """A space of the platform as a person works in it, and as a direct look at it finds it."""

    def __init__(self, address: str) -> None:
        self.address = address
        headers = {"Authorization": f"Bearer {PURSER}"}
        self._http = httpx.Client(base_url=f"{address}/", headers=headers, timeout=30)

    def write(self, name: str, body: bytes, type_: str = "resource") -> None:
        """Change an object in the platform itself."""
        self._http.put(f"objects/{name}", params={"type": type_}, content=body).raise_for_status()

    def remove(self, name: str) -> None:
        """Remove one."""
        self._http.delete(f"objects/{name}").raise_for_status()

    def objects(self) -> dict[str, bytes]:
        """What is there: name and body."""
        names = [o["name"] for o in self._http.get("objects").json()["objects"]]
        return {name: self._http.get(f"objects/{name}").content for name in names}

    def trail(self) -> list[dict[str, Any]]:
        """What was written, oldest first."""
        found: list[dict[str, Any]] = self._http.get("trail").json()
        return found

    def behave(self, **wanted: Any) -> None:
        """How it is to misbehave."""
        self._http.put("behaviour", json=wanted).raise_for_status()


@functools.cache
def shared_standin() -> Standin:
    """One platform for all tests of this process."""
    found = Standin()
    atexit.register(found.close)
    return found

"""A Dask cluster on loopback: a scheduler and workers, each a process of its own that can be killed."""

from __future__ import annotations

import contextlib
import os
import subprocess
import sys
import tempfile
from pathlib import Path

import distributed

from tests.support.service import free_port
from tests.support.waiting import until


class DaskCluster:
    """Two workers of a gigabyte each, unless told otherwise."""

    def __init__(self, workers: int = 2, *, memory: str = "1GB") -> None:
        self._folder = tempfile.TemporaryDirectory(prefix="es-dask-", ignore_cleanup_errors=True)
        self.address = f"tcp://127.0.0.1:{free_port()}"
        port = self.address.rpartition(":")[2]
        self._scheduler = self._started("scheduler", "--host", "127.0.0.1", "--port", port)
        self.workers = [
            self._started(
                "worker", self.address, "--no-nanny", "--nthreads", "1", "--memory-limit", memory,
                "--local-directory", self._folder.name,
            )
            for _ in range(workers)
        ]  # fmt: skip
        try:
            until(lambda: self._seen() == workers, "the workers")
        except BaseException:
            self.close()
            raise

    def _started(self, *arguments: str) -> subprocess.Popen[bytes]:
        command = [sys.executable, "-m", "dask", *arguments, "--no-dashboard"]
        environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parents[2])}  # work of tests lies there
        with Path(self._folder.name, f"{arguments[0]}.log").open("ab") as log:
            return subprocess.Popen(command, stdout=log, stderr=log, cwd=self._folder.name, env=environment)

    def _seen(self) -> int:
        with (
            contextlib.suppress(OSError),
            distributed.Client(self.address, timeout=5, set_as_default=False) as client,  # type: ignore[no-untyped-call]
        ):
            return len(client.scheduler_info()["workers"])
        return 0

    def kill_worker(self) -> None:
        """Kill the first worker without a word."""
        self.workers[0].kill()
        self.workers[0].wait()

    def close(self) -> None:
        """End all of it."""
        for process in (*self.workers, self._scheduler):
            process.kill()
            process.wait()
        self._folder.cleanup()

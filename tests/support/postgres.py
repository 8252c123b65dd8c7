"""A real PostgreSQL server for the length of a test, in a folder of its own, on loopback."""

from __future__ import annotations

import contextlib
import os
import pwd
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

_PROGRAMS = sorted(Path("/usr/lib/postgresql").glob("*/bin"), key=lambda p: int(p.parent.name.partition(".")[0]))
USER, PASSWORD = "skerry", "tern-and-puffin"


def is_there() -> bool:
    """Whether this machine has the server."""
    return bool(_PROGRAMS) and (_PROGRAMS[-1] / "initdb").exists()


@contextlib.contextmanager
def postgres() -> Iterator[str]:
    """An address without a database's name: ``postgresql+psycopg://USER@127.0.0.1:PORT``."""
    programs = _PROGRAMS[-1]
    # The server does not run as root.
    as_user = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    folder = Path(tempfile.mkdtemp(prefix="everyshelf-postgres-"))
    try:
        if as_user:
            owner = pwd.getpwnam("postgres")
            os.chown(folder, owner.pw_uid, owner.pw_gid)
        secret = folder / "secret"
        secret.write_text(PASSWORD + "\n")
        secret.chmod(0o644)
        data, port = folder / "data", _free_port()
        make = [str(programs / "initdb"), "-D", str(data), "-U", USER, "-E", "UTF8", "--locale=C.UTF-8"]
        _run([*as_user, *make, "--auth=scram-sha-256", f"--pwfile={secret}", "--no-sync"])
        options = f"-p {port} -h 127.0.0.1 -k {folder} -c fsync=off"
        start = [str(programs / "pg_ctl"), "-D", str(data), "-w", "-l", str(folder / "log"), "-o", options]
        _run([*as_user, *start, "start"])
        try:
            yield f"postgresql+psycopg://{USER}@127.0.0.1:{port}"
        finally:
            stop = [str(programs / "pg_ctl"), "-D", str(data), "-m", "immediate", "stop"]
            _run([*as_user, *stop])
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def _free_port() -> int:
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        return int(found.getsockname()[1])


def _run(command: list[str]) -> None:
    done = subprocess.run(
        command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd="/", timeout=60, check=False
    )
    if done.returncode:
        raise RuntimeError(f"{command} ended with {done.returncode}")

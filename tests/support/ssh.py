"""A real SSH server on loopback, with one key that may sign in."""

from __future__ import annotations

import contextlib
import getpass
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from tests.support.service import free_port
from tests.support.waiting import until

SSHD = shutil.which("sshd") or ("/usr/sbin/sshd" if Path("/usr/sbin/sshd").exists() else None)


@dataclass(frozen=True)
class SshServer:
    """``key`` may sign in, ``other_key`` may not; ``known_hosts`` is the server's own line."""

    port: int
    key: str
    other_key: str
    known_hosts: str

    def address(self, path: Path) -> str:
        """Where a folder is found over SSH."""
        return f"ssh://{getpass.getuser()}@127.0.0.1:{self.port}{path}"


@contextlib.contextmanager
def ssh_server(command: str = "") -> Iterator[SshServer]:
    """A server until the end of the block; with a ``command`` it runs that, whatever it is asked for."""
    assert SSHD is not None
    with tempfile.TemporaryDirectory(prefix="es-sshd-") as home:
        folder = Path(home)
        for name in ("host", "key", "other"):
            making = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-C", name, "-f", str(folder / name)]
            subprocess.run(making, check=True)
        (folder / "allowed").write_text((folder / "key.pub").read_text())
        port = free_port()
        settings = {
            "ListenAddress": f"127.0.0.1:{port}",
            "HostKey": str(folder / "host"),
            "AuthorizedKeysFile": str(folder / "allowed"),
            "PidFile": "none",
            "StrictModes": "no",
            "UsePAM": "no",
            "PasswordAuthentication": "no",
            "KbdInteractiveAuthentication": "no",
            "PermitRootLogin": "prohibit-password",
        }
        if command:
            settings["ForceCommand"] = command
        config = folder / "config"
        config.write_text("".join(f"{name} {value}\n" for name, value in settings.items()))
        Path("/run/sshd").mkdir(exist_ok=True)
        process = subprocess.Popen([SSHD, "-D", "-e", "-f", str(config)], stderr=subprocess.DEVNULL)
        try:
            until(lambda: _answers(port), "the SSH server did not start")
            host = " ".join((folder / "host.pub").read_text().split()[:2])
            key, other = ((folder / name).read_text() for name in ("key", "other"))
            yield SshServer(port, key, other, f"[127.0.0.1]:{port} {host}\n")
        finally:
            process.terminate()
            process.wait()


def _answers(port: int) -> bool:
    with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
        return True
    return False

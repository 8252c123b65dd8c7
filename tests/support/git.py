"""A real Git repository behind Git's own HTTP program, which asks for a token; and a person who works in a clone."""

from __future__ import annotations

import base64
import contextlib
import os
import shutil
import ssl
import subprocess
import tempfile
import threading
from collections.abc import Iterator, Mapping
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

TOKEN = "git-token-of-the-service"
_GIT = shutil.which("git") or "git"


def run_git(*arguments: str, folder: Path, code: int | None = 0) -> subprocess.CompletedProcess[str]:
    """Run Git itself as a person would; fails unless it ends with ``code`` (None: however it ends)."""
    environment = {**os.environ, "GIT_CONFIG_GLOBAL": "/dev/null", "GIT_CONFIG_NOSYSTEM": "1", "LC_ALL": "C.UTF-8"}
    environment |= {"GIT_TERMINAL_PROMPT": "0"}
    for role in ("AUTHOR", "COMMITTER"):
        environment |= {f"GIT_{role}_NAME": "Purser", f"GIT_{role}_EMAIL": "purser@skerry.example"}
    done = subprocess.run([_GIT, *arguments], cwd=folder, env=environment, capture_output=True, check=False)
    out, err = (stream.decode("utf-8", "surrogateescape") for stream in (done.stdout, done.stderr))
    if code is not None and done.returncode != code:
        raise AssertionError(f"git {' '.join(arguments)} ended with {done.returncode}:\n{out}\n{err}")
    return subprocess.CompletedProcess(done.args, done.returncode, out, err)


def git(*arguments: str, folder: Path) -> str:
    """Run Git itself."""
    environment = {**os.environ, "GIT_CONFIG_GLOBAL": "/dev/null", "GIT_CONFIG_NOSYSTEM": "1"}
    for role in ("AUTHOR", "COMMITTER"):
        environment |= {f"GIT_{role}_NAME": "Purser", f"GIT_{role}_EMAIL": "purser@skerry.example"}
    done = subprocess.run([_GIT, *arguments], cwd=folder, env=environment, capture_output=True, check=True)
    return done.stdout.decode("utf-8", "surrogateescape")


class GitServer:
    """Repositories below ``root`` over HTTP; ``rights``: "write", "read" for what the token may, or "expired"."""

    def __init__(self, root: Path) -> None:
        self.root, self.rights = root, "write"
        server = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.0"

            def log_message(self, *_: Any) -> None:
                """Says nothing."""

            def do_GET(self) -> None:
                server._answer(self)

            def do_POST(self) -> None:
                server._answer(self)

        self._http = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._http.daemon_threads = True
        self.port = self._http.server_address[1]
        self.address = f"http://127.0.0.1:{self.port}"
        threading.Thread(target=self._http.serve_forever, daemon=True).start()

    def use_tls(self, context: ssl.SSLContext) -> None:
        """Speak https from now on."""
        self._http.socket = context.wrap_socket(self._http.socket, server_side=True)

    def close(self) -> None:
        """End it."""
        self._http.shutdown()
        self._http.server_close()

    def make(self, name: str, files: Mapping[str, bytes] | None = None) -> Path:
        """A repository, empty or with one commit on main."""
        bare = self.root / name
        git("init", "-q", "--bare", "-b", "main", str(bare), folder=self.root)
        git("config", "http.receivepack", "true", folder=bare)
        if files:
            self.work(bare, files, "first")
        return bare

    @staticmethod
    def work(bare: Path, files: Mapping[str, bytes | None], message: str) -> None:
        """A person commits and sends."""
        with tempfile.TemporaryDirectory(prefix="es-clone-") as folder:
            clone = Path(folder, "clone")
            git("clone", "-q", str(bare), str(clone), folder=Path(folder))
            for path, data in files.items():
                target = clone / path
                if data is None:
                    target.unlink()
                    continue
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(data)
            git("add", "-A", folder=clone)
            git("commit", "-q", "-m", message, folder=clone)
            git("push", "-q", "origin", "HEAD:main", folder=clone)

    @staticmethod
    def files(bare: Path, branch: str = "main") -> dict[str, bytes]:
        """What a branch holds, asked of Git itself."""
        names = git("ls-tree", "-r", "-z", "--name-only", branch, folder=bare).split("\0")[:-1]
        return {n: git("show", f"{branch}:{n}", folder=bare).encode("utf-8", "surrogateescape") for n in names}

    def _answer(self, request: BaseHTTPRequestHandler) -> None:
        given = request.headers.get("Authorization", "")
        expected = base64.b64encode(f"everyshelf:{TOKEN}".encode()).decode()
        if self.rights == "expired":
            said = b"The token expired on 1 November.\n"
            request.send_response(403)
            request.send_header("Content-Type", "text/plain")
            request.send_header("Content-Length", str(len(said)))
            request.end_headers()
            request.wfile.write(said)
            return
        if given != f"Basic {expected}":
            request.send_response(401)
            request.send_header("WWW-Authenticate", 'Basic realm="skerry"')
            request.end_headers()
            return
        path, _, query = request.path.partition("?")
        if self.rights == "read" and "git-receive-pack" in request.path:
            request.send_response(403)
            request.end_headers()
            return
        length = int(request.headers.get("Content-Length") or 0)
        body = request.rfile.read(length) if length else b""
        if request.headers.get("Transfer-Encoding", "").lower() == "chunked":
            body = _chunks(request.rfile)
        environment = {
            **os.environ,
            "GIT_PROJECT_ROOT": str(self.root),
            "GIT_HTTP_EXPORT_ALL": "1",
            "REQUEST_METHOD": request.command,
            "PATH_INFO": path,
            "QUERY_STRING": query,
            "CONTENT_TYPE": request.headers.get("Content-Type", ""),
            "CONTENT_LENGTH": str(len(body)),
            "HTTP_CONTENT_ENCODING": request.headers.get("Content-Encoding", ""),
            "GIT_PROTOCOL": request.headers.get("Git-Protocol", ""),
            "REMOTE_USER": "everyshelf",
            "REMOTE_ADDR": "127.0.0.1",
        }
        done = subprocess.run([_GIT, "http-backend"], input=body, env=environment, capture_output=True, check=False)
        head, _, rest = done.stdout.partition(b"\r\n\r\n")
        status, headers = 200, []
        for line in head.decode().split("\r\n"):
            name, _, value = line.partition(": ")
            if name.lower() == "status":
                status = int(value.split()[0])
            elif name:
                headers.append((name, value))
        request.send_response(status)
        for name, value in headers:
            request.send_header(name, value)
        with contextlib.suppress(ConnectionError):  # whoever asked may be gone
            request.end_headers()
            request.wfile.write(rest)


def _chunks(stream: Any) -> bytes:
    found = b""
    while size := int(stream.readline().split(b";")[0], 16):
        found += stream.read(size)
        stream.readline()
    stream.readline()
    return found


@contextlib.contextmanager
def git_server() -> Iterator[GitServer]:
    """A server with nothing in it yet."""
    with tempfile.TemporaryDirectory(prefix="es-git-") as folder:
        server = GitServer(Path(folder))
        try:
            yield server
        finally:
            server.close()

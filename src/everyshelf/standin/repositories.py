"""Git repositories behind a sign-in, as a colleague's server has them: ``git http-backend`` does the work.

====================================  =============================================================
GET, POST /git/NAME.git/…             Git's smart HTTP protocol; any user, a token as password
====================================  =============================================================
"""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path
from typing import Any

from flask import Flask, Response, abort, g, request


def add_repositories(app: Flask, folder: Path) -> None:
    """Serve the bare repositories in ``folder``; whoever signed in may read and write."""
    folder.mkdir(parents=True, exist_ok=True)

    @app.route("/git/<path:rest>", methods=["GET", "POST"])
    def repository(rest: str) -> Any:
        program = shutil.which("git")
        if program is None:
            abort(503, "git is not installed here")
        environment = {
            "PATH": os.environ.get("PATH", os.defpath),
            "GIT_PROJECT_ROOT": str(folder.absolute()),
            "GIT_HTTP_EXPORT_ALL": "1",
            "GIT_CONFIG_NOSYSTEM": "1",
            "GIT_CONFIG_GLOBAL": os.devnull,
            "PATH_INFO": f"/{rest}",
            "QUERY_STRING": request.query_string.decode(),
            "REQUEST_METHOD": request.method,
            "CONTENT_TYPE": request.headers.get("Content-Type", ""),
            "HTTP_CONTENT_ENCODING": request.headers.get("Content-Encoding", ""),
            "GIT_PROTOCOL": request.headers.get("Git-Protocol", ""),
            "REMOTE_USER": g.person,
            "REMOTE_ADDR": "127.0.0.1",
        }
        body = request.get_data()
        environment["CONTENT_LENGTH"] = str(len(body))
        done = subprocess.run([program, "http-backend"], input=body, env=environment, capture_output=True, check=False)
        head, _, rest_of_it = done.stdout.partition(b"\r\n\r\n")
        lines = [line.decode().partition(": ") for line in head.split(b"\r\n") if line]
        headers = {name: value for name, _, value in lines if name.lower() != "status"}
        status = next((int(value.split()[0]) for name, _, value in lines if name.lower() == "status"), 200)
        return Response(rest_of_it, status, headers)

"""A small build server: it hears of commits and runs a command for each, one after the other.

====================================  =============================================================
POST   /builds                        an event (CloudEvents 1.0), signed as WebSub has it
GET    /builds                        what was built, newest first
====================================  =============================================================

``settings`` is a JSON file, read for each event: ``{"secret": "…", "command": ["…"], "environment": {"…": "…"}}``. The
commit is added to the command.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import os
import subprocess
import threading
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

from flask import Flask, abort, jsonify, request

_SECONDS = 300
_KEPT = 100


def add_builds(app: Flask, settings: Path) -> None:
    """Build for each commit that an event tells of."""
    builds: list[dict[str, Any]] = []
    lock, pool = threading.Lock(), ThreadPoolExecutor(1)

    @app.post("/builds")
    def hear_event() -> Any:
        if not settings.is_file():
            abort(503, "nobody has said yet what to build")
        said = json.loads(settings.read_text())
        body = request.get_data()
        wanted = "sha256=" + hmac.new(said["secret"].encode(), body, hashlib.sha256).hexdigest()
        if not hmac.compare_digest(wanted, request.headers.get("X-Hub-Signature", "")):
            abort(403, "this event is not signed with the secret")
        event = json.loads(body)
        detail = event.get("data", {}).get("detail", {})
        commit = detail.get("commit") or detail.get("head")
        with lock:
            is_new = commit and all(one["event"] != event["id"] for one in builds)
            if is_new:
                build = {"event": event["id"], "commit": commit, "state": "waiting", "output": ""}
                builds.insert(0, build)
                del builds[_KEPT:]
        if is_new:
            pool.submit(_run, build, [*said["command"], commit], {**os.environ, **said.get("environment", {})})
        return "", 202

    @app.get("/builds")
    def list_builds() -> Any:
        with lock:
            return jsonify(builds)


def _run(build: dict[str, Any], command: list[str], environment: dict[str, str]) -> None:
    build["state"] = "running"
    try:
        done = subprocess.run(command, env=environment, capture_output=True, text=True, timeout=_SECONDS, check=False)
    except (OSError, subprocess.TimeoutExpired) as error:
        build["state"], build["output"] = "failed", str(error)
        return
    build["output"] = (done.stdout + done.stderr)[-20_000:]
    build["state"] = "passed" if done.returncode == 0 else "failed"

"""``/healthz`` and ``/readyz``: whether this installation can do its work, for whoever watches over it."""

from __future__ import annotations

import os
import time
from typing import Any

from django.db import connection
from django.http import HttpRequest, JsonResponse
from django.utils import timezone

import everyshelf
from everyshelf.service.base.config import get_config
from everyshelf.service.base.processes import beat_file, states
from everyshelf.service.base.room import LEAST_FREE_BYTES, can_write, free_bytes
from everyshelf.service.jobs.models import Job, State

_SILENT_SECONDS = 60
_LATE_SECONDS = 600


def healthz(request: HttpRequest) -> JsonResponse:
    """200 with ``{"status": "ok"}``, or 503 with what is wrong. Only what takes a hand counts: a full disk does, a long
    queue does not."""
    state, problems = _look()
    return _answer("ok" if not problems else "failing", state, problems)


def readyz(request: HttpRequest) -> JsonResponse:
    """200 while requests can be answered in full, else 503: also while the queue is long or the worker starts again."""
    state, problems = _look()
    oldest = state["queue"]["oldest_seconds"]
    if oldest is not None and oldest > _LATE_SECONDS:
        problems.append(f"queue: a job has waited for {oldest} seconds")
    return _answer("ready" if not problems else "not ready", state, problems)


def _answer(status: str, state: dict[str, Any], problems: list[str]) -> JsonResponse:
    document = {"status": status, "version": everyshelf.__version__, "problems": problems, **state}
    return JsonResponse(document, status=503 if problems else 200)


def _look() -> tuple[dict[str, Any], list[str]]:
    problems: list[str] = []
    state: dict[str, Any] = {
        "worker": _worker(problems),
        "queue": _queue(problems),
        "room": _room(problems),
    }
    if not get_config().segments.is_dir():
        problems.append("segments: the folder is missing")
    return state, problems


def _worker(problems: list[str]) -> dict[str, Any]:
    worker = states().get("worker")
    try:
        silent: int | None = round(time.time() - os.stat(beat_file()).st_mtime)
    except OSError:
        silent = None
    running = worker.running if worker is not None else None
    if running is False:
        problems.append("worker: it does not run; it is started again by itself")
    elif silent is None or silent > _SILENT_SECONDS:
        problems.append("worker: it has not been seen at work" + (f" for {silent} seconds" if silent else ""))
    return {"running": running, "starts": worker.starts if worker is not None else 0, "seen_seconds_ago": silent}


def _queue(problems: list[str]) -> dict[str, Any]:
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT 1")
        waiting = Job.objects.filter(state=State.WAITING)
        first = waiting.order_by("pk").values_list("created", flat=True).first()
        oldest = round((timezone.now() - first).total_seconds()) if first else None
        running = Job.objects.filter(state=State.RUNNING).count()
        return {"waiting": waiting.count(), "running": running, "oldest_seconds": oldest}
    except Exception as error:
        problems.append(f"records: {error}")
        return {"waiting": None, "running": None, "oldest_seconds": None}


def _room(problems: list[str]) -> dict[str, Any]:
    try:
        free = free_bytes()
    except OSError as error:
        problems.append(f"room: {error.strerror}")
        return {"free_bytes": None}
    if not can_write():
        problems.append("room: the disk can be read only")
    if free < LEAST_FREE_BYTES:
        problems.append(f"room: {free // 2**20} MiB are free, and contents need {LEAST_FREE_BYTES // 2**20}")
    return {"free_bytes": free}

"""Starting the service: one process group of web and job worker, all data in one folder."""

from __future__ import annotations

import fcntl
import logging
import os
import secrets
import subprocess
import sys
from collections.abc import Callable
from typing import IO, Any

from everyshelf.core.errors import ConflictError
from everyshelf.service.config import get_config

THREADS = 24


def prepare() -> tuple[str, str] | None:
    """Bring the records up to date; at the very first start make an owner, and return name and password once."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "everyshelf.service.settings")
    import django
    from django.core.management import call_command

    django.setup()
    call_command("migrate", interactive=False, verbosity=0)
    from django.contrib.auth.models import User

    from everyshelf.service.context import clear_scratch
    from everyshelf.service.people.actions import create_person

    clear_scratch()
    get_config().segments.mkdir(parents=True, exist_ok=True)
    _settle_promotions()
    if User.objects.exists():
        return None
    name = os.environ.get("EVERYSHELF_OWNER", "owner")
    password = os.environ.get("EVERYSHELF_OWNER_PASSWORD") or secrets.token_urlsafe(12)
    create_person(name, name.capitalize(), password, staff=True)
    return None if "EVERYSHELF_OWNER_PASSWORD" in os.environ else (name, password)


def _settle_promotions() -> None:
    """Finish or undo what a crash cut short, before the first request can open another journal."""
    from everyshelf.service.context import get_store, get_trees
    from everyshelf.service.environments.actions.promotion import finish_or_undo_all

    finish_or_undo_all()
    get_store().close()
    for made in (get_trees, get_store):  # the processes to come open their own
        made.cache_clear()


def hold_data_folder() -> IO[str]:
    """Make sure that one service alone works on the data folder; keep the result open."""
    lock = (get_config().data / "service.lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError as error:
        raise ConflictError(
            f"another service works on {get_config().data}",
            code="serve.busy",
            hint="Stop it, or choose another folder with --data.",
        ) from error
    os.set_inheritable(lock.fileno(), True)
    return lock


def serve(ready: Callable[[], None]) -> None:
    """Serve until stopped; ``ready`` is called once requests are answered."""
    from gunicorn.app.base import BaseApplication

    _quiet_logs()
    config = get_config()
    worker: list[subprocess.Popen[bytes]] = []

    def when_ready(server: Any) -> None:
        worker.append(subprocess.Popen([sys.executable, "-m", "everyshelf.service.jobs.worker"]))
        ready()

    def on_exit(server: Any) -> None:
        for process in worker:
            process.terminate()
            process.wait(10)

    class Application(BaseApplication):  # type: ignore[misc]
        def load_config(self) -> None:
            settings = {
                "bind": f"{config.host}:{config.port}",
                "workers": 1,
                "threads": THREADS,
                "worker_class": "gthread",
                "when_ready": when_ready,
                "on_exit": on_exit,
                "timeout": 120,
                "graceful_timeout": 10,
                "loglevel": "warning",
                "post_worker_init": _end_with_parent,
                "keepalive": 15,
                "limit_request_line": 8190,
                "control_socket_disable": True,
            }
            for name, value in settings.items():
                if name in self.cfg.settings:
                    self.cfg.set(name, value)

        def load(self) -> Any:
            from everyshelf.service.jobs.kinds import load
            from everyshelf.service.wsgi import application

            load()
            return application

    Application().run()


def _end_with_parent(worker: Any) -> None:
    """The web worker must not outlive a master that was killed with -9 either."""
    from everyshelf.service.jobs.worker import end_with_parent

    end_with_parent()


def _quiet_logs() -> None:
    import structlog

    level = getattr(logging, os.environ.get("EVERYSHELF_LOG", "WARNING").upper(), logging.WARNING)
    structlog.configure(
        processors=[
            structlog.processors.add_log_level,
            structlog.processors.TimeStamper(fmt="iso"),
            structlog.processors.JSONRenderer(),
        ],
        wrapper_class=structlog.make_filtering_bound_logger(level),
        logger_factory=structlog.PrintLoggerFactory(sys.stderr),
    )

"""Starting the service: the web process, the job worker beside it, all data in one folder."""

from __future__ import annotations

import os
import secrets
import signal
from collections.abc import Callable
from typing import Any

from everyshelf.core.errors import BrokenError
from everyshelf.service.base.config import get_config


def prepare() -> tuple[str, str] | None:
    """Bring the records up to date; at the very first start make an owner, and return name and password once."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "everyshelf.service.settings")
    import django
    from django.core.management import call_command
    from django.db import DatabaseError

    django.setup()
    try:
        call_command("migrate", interactive=False, verbosity=0)
    except DatabaseError as error:
        raise BrokenError(
            f"the records in {get_config().database} cannot be read or written: {error}",
            code="serve.records",
            hint="Look for free space. If they are damaged, copy the file back from a backup; contents lie apart.",
        ) from error
    from django.contrib.auth.models import User

    from everyshelf.service.base.context import clear_scratch
    from everyshelf.service.base.keys import check_keys
    from everyshelf.service.people.actions import create_person

    check_keys()
    clear_scratch()
    _settle_promotions()
    if User.objects.exists():
        return None
    name = os.environ.get("EVERYSHELF_OWNER", "owner")
    password = os.environ.get("EVERYSHELF_OWNER_PASSWORD") or secrets.token_urlsafe(12)
    create_person(name, name.capitalize(), password, staff=True)
    return None if "EVERYSHELF_OWNER_PASSWORD" in os.environ else (name, password)


def accounts_here() -> Any:
    """The use cases of accounts, for whoever can write the data folder; a service may run on it meanwhile."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "everyshelf.service.settings")
    import django

    django.setup()
    from everyshelf.service.people import accounts

    return accounts


def damage() -> list[str]:
    """What is known to be damaged, a line each: ranges of the content store, and the key of secrets."""
    from everyshelf.service.base.context import get_store
    from everyshelf.service.base.keys import check_keys

    wrong = check_keys()
    places = [f"{place}; everyshelf verify tells which versions it harms" for place in get_store().segments.damage()]
    return [*places, wrong] if wrong else places


def _settle_promotions() -> None:
    """Finish or undo what a crash cut short, before the first request can open another journal."""
    from everyshelf.service.environments.actions.promotion import finish_or_undo_all

    finish_or_undo_all()


def serve(ready: Callable[[], None]) -> None:
    """Serve until SIGTERM or SIGINT; ``ready`` is called once requests are answered."""
    from everyshelf.service.base.context import get_store
    from everyshelf.service.base.logs import set_up_logs
    from everyshelf.service.jobs.keeper import start_keeper
    from everyshelf.service.web.job_kinds import load
    from everyshelf.service.web.server import make_server
    from everyshelf.service.wsgi import application

    set_up_logs()
    load()
    config = get_config()
    server = make_server(
        application,
        host=config.host,
        port=config.port,
        scratch=config.scratch,
        most_bytes=config.max_upload_bytes,
        proxy=config.proxy,
    )
    keeper = start_keeper()
    signal.signal(signal.SIGTERM, _stop)
    ready()
    try:
        server.run()
    finally:
        # A second signal must not cut off what makes the stop an orderly one.
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        keeper.stop()
        get_store().close()  # seals its segment


def _stop(*_: Any) -> None:
    raise SystemExit(0)

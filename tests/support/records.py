"""A data folder whose records are up to date, made once for a whole run of the tests and copied for each service.

To bring new records up to date costs nine seconds of a processor, and a run starts some sixty services with new data.
What is copied is what ``everyshelf serve`` leaves in a new folder before it makes an owner: tables without rows.
``tests.service.test_damaged_data`` and the guides still start from an empty folder.
"""

from __future__ import annotations

import atexit
import fcntl
import os
import shutil
import subprocess
import sys
import tempfile
from pathlib import Path

_PLACE = "ES_TESTS_RECORDS"
_UP_TO_DATE = """
import django
django.setup()
from django.core.management import call_command
from django.db import connection
from everyshelf.service.base.config import get_config
from everyshelf.service.base.data_folder import open_data_folder
lock = open_data_folder(get_config())
call_command("migrate", interactive=False, verbosity=0)
with connection.cursor() as cursor:
    cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
"""


def keep_for_this_run() -> None:
    """Name the folder all processes of this run copy from; it goes away at the end of this process."""
    if _PLACE not in os.environ:
        os.environ[_PLACE] = tempfile.mkdtemp(prefix="es-records-")
        atexit.register(shutil.rmtree, os.environ[_PLACE], ignore_errors=True)


def copy_records(data: Path) -> None:
    """Put up-to-date records into an empty data folder."""
    keep_for_this_run()
    place = Path(os.environ[_PLACE])
    made = place / "data"
    with (place / "lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not made.exists():
            _make(place / "new")
            (place / "new").rename(made)
    shutil.copytree(made, data, dirs_exist_ok=True)


def _make(folder: Path) -> None:
    folder.mkdir()
    environment = {
        **os.environ,
        "EVERYSHELF_DATA": str(folder),
        "DJANGO_SETTINGS_MODULE": "everyshelf.service.settings",
    }
    subprocess.run([sys.executable, "-c", _UP_TO_DATE], env=environment, check=True)

"""Acts of a service, cut short by the end of their process before each of their statements in turn.

``python -m tests.support.crashing DATA ACTS``: acts as JSON, name -> [method, address, body]. Each runs in a forked process
that ends with ``_exit`` before statement 1, 2, 3 … until it gets through. After each crash the records are compared,
by a connection of their own, with what they were before. Prints one line of JSON.
"""

from __future__ import annotations

import json
import os
import sqlite3
import sys
from contextlib import closing
from typing import Any

# What an act is: everything but sessions, and what only says when something was last used.
_LEFT_OUT = ("django_session", "sqlite_sequence", "shelves_cachedcomparison", "shelves_mergedcontent")
_CRASHED = 9


def main() -> None:
    data, acts = sys.argv[1], json.loads(sys.argv[2])
    os.environ |= {"EVERYSHELF_DATA": data, "DJANGO_SETTINGS_MODULE": "everyshelf.service.settings"}
    import django

    django.setup()
    from django.db import connections

    from everyshelf.service.web.job_kinds import load

    load()
    connections.close_all()
    crashes, halves, failed = {}, [], []
    for name, act in acts.items():
        number = 1
        while True:
            before = _snapshot(data)
            code = _forked(act, number)
            if code != _CRASHED:
                break
            if _snapshot(data) != before:
                halves.append(f"{name}, before statement {number}")
                break
            number += 1
        crashes[name] = number - 1
        if code not in (0, _CRASHED):
            failed.append(f"{name}: {code}")
    print(json.dumps({"crashes": crashes, "halves": halves, "failed": failed}))


def _forked(act: list[Any], number: int) -> int:
    pid = os.fork()
    if pid == 0:
        try:
            os._exit(_run(act, number))
        except BaseException as error:
            print(repr(error), file=sys.stderr)
            os._exit(1)
    return os.waitstatus_to_exitcode(os.waitpid(pid, 0)[1])


def _run(act: list[Any], number: int) -> int:
    from django.contrib.auth.models import User
    from django.db import connection
    from django.test import Client

    client = Client(headers={"host": "127.0.0.1", "Idempotency-Key": f"key {number} {act[1]}"})
    client.force_login(User.objects.get(username="owner"))
    left = [number]

    def watch(execute: Any, sql: str, params: Any, many: bool, context: Any) -> Any:
        word = sql.lstrip().split(" ", 1)[0].upper()
        if word in ("INSERT", "UPDATE", "DELETE") and "django_session" not in sql:
            left[0] -= 1
            if not left[0]:
                os._exit(_CRASHED)
        return execute(sql, params, many, context)

    method, address, body = act
    with connection.execute_wrapper(watch):
        answer = getattr(client, method)(address, data=body, content_type="application/json")
    if answer.status_code >= 400:
        print(act, answer.status_code, answer.content[:500], file=sys.stderr)
    return 0 if answer.status_code < 400 else 1


def _snapshot(data: str) -> dict[str, list[tuple[Any, ...]]]:
    with closing(sqlite3.connect(f"{data}/records.sqlite")) as records:
        tables = [row[0] for row in records.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
        return {
            table: list(records.execute(f'SELECT * FROM "{table}" ORDER BY 1'))
            for table in tables
            if table not in _LEFT_OUT and table not in ("auth_user", "people_token")
        }


if __name__ == "__main__":
    main()

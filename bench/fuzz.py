"""Odd calls drawn from the OpenAPI document: none is answered with an error of ours, and the service stays up.

``fuzz`` draws from all operations as the owner. ``fuzz_installation`` draws from those about the installation only
(people, tokens, sessions, invitations, members, locations, storage, stores, backups) as an administrator, a reader, a
person without a role and nobody: whoever is not an administrator changes nothing, and afterwards all can sign in whose
password or account no acknowledged call changed.
"""

from __future__ import annotations

import os
from collections.abc import Iterator

import httpx
from tests.support.fuzzing import Call, Fuzzer, Known, failures, prepared
from tests.support.service import PASSWORD, Service

from bench.measure import Figure
from everyshelf.client import Client, ProblemError

CALLS = int(os.environ.get("CALLS", "20000"))
_A_TIME = 1000
_PEOPLE = ("keeper", "author", "reader")
_ABOUT = (
    *("people", "tokens", "session", "invitations", "members", "locations"),
    *("storage", "stores", "store", "backups", "jobs", "keeping"),
)


def fuzz() -> Iterator[Figure]:
    """The calls, a thousand for each drawing of the generator; what fails is printed at once."""
    service = Service()
    wrong: list[str] = []
    statuses: dict[int, int] = {}
    try:
        _add_people(service)
        with _http(service, service.token()) as http:
            for number in range(CALLS // _A_TIME):
                found, failed = failures(http, Fuzzer(_known(service, f"Odd calls {number}"), 100 + number), 0, _A_TIME)
                wrong += _shown(failed)
                for status, count in found.items():
                    statuses[status] = statuses.get(status, 0) + count
                print(f"     … {_A_TIME * (number + 1)} calls, {len(wrong)} wrong", flush=True)
    finally:
        service.stop()
    detail = ", ".join(f"{count} × {status}" for status, count in sorted(statuses.items()))
    yield Figure("B3", f"errors of ours in {CALLS} odd calls", len(wrong), "0", not wrong, detail)


def fuzz_installation(count: int = CALLS // 20) -> Iterator[Figure]:
    """``count`` calls about people, tokens, storage and backups by each of four callers."""
    service = Service()
    wrong: list[str] = []
    detail = []
    try:
        _add_people(service)
        known = _known(service, "Odd calls")
        known.add("name", *_PEOPLE, "somebody-new")
        known.add("password", PASSWORD, "a-long-password-1", "short")
        known.add("token", service.token("reader"))
        known.add("scopes", ["read"], ["admin"], ["read", "write"])
        callers = {"nobody": "", "keeper": service.token("keeper"), "reader": service.token("reader")}
        before = _installation(service)
        for seed, (who, token) in enumerate(callers.items()):
            statuses = _calls(service, Fuzzer(known, seed, only=_is_about), token, count, wrong)
            detail.append(f"{who} {statuses}")
            if (now := _installation(service)) != before:
                wrong.append(f"{who} changed the installation: {before} -> {now}")
                before = now
        changed: set[str] = set()
        statuses = _calls(service, Fuzzer(known, 9, only=_is_about), service.token(), count, wrong, changed)
        detail.append(f"administrator {statuses}")
        wrong += [f"{name} cannot sign in" for name in ("owner", *_PEOPLE) if not _can_sign_in(service, name, changed)]
    finally:
        service.stop()
    wanted = f"problems in {4 * count} odd calls about the installation"
    yield Figure("B3", wanted, len(_shown(wrong)), "0", not wrong, "; ".join(detail))


def _is_about(path: str) -> bool:
    return any(step in _ABOUT for step in path.split("/"))


def _calls(
    service: Service, fuzzer: Fuzzer, token: str, count: int, wrong: list[str], changed: set[str] | None = None
) -> dict[int, int]:
    """How often each status came; ``changed`` gets the operations and addresses that were acknowledged."""
    acknowledged: list[Call] = []
    with _http(service, token) as http:
        statuses, failed = failures(http, fuzzer, 0, count, acknowledged.append)
    wrong += failed
    if changed is not None:
        changed |= {f"{call.operation} {call.address}" for call in acknowledged}
    return dict(sorted(statuses.items()))


def _can_sign_in(service: Service, name: str, changed: set[str]) -> bool:
    """Whether they can, unless an acknowledged call changed their account or password."""
    acts = ("people_change", "people_reset_password")
    if any(act.startswith(acts) and f"/{name}" in act for act in changed):
        return True
    if name == "owner" and any(act.startswith("session_password") for act in changed):
        return True
    try:
        with Client(service.address) as client:
            return bool(client.sign_in_for_token(name, PASSWORD, "after the calls", ["read"], 1).value)
    except ProblemError as error:
        return error.status == httpx.codes.TOO_MANY_REQUESTS  # others guessed the password: right


def _installation(service: Service) -> list[object]:
    """What only an administrator may change."""
    with service.client() as client:
        people = [(one.name, one.active, one.admin) for one in client.accounts()]
    with _http(service, service.token()) as http:
        rest = [http.get(f"/api/v1/{path}").json() for path in ("storage/stores", "backups", "locations")]
    return [people, *rest]


def _add_people(service: Service) -> None:
    with service.client() as client:
        for name in _PEOPLE:
            client.add_person(name, name.capitalize(), PASSWORD)


def _known(service: Service, shelf: str) -> Known:
    with service.client() as client:
        return prepared(client, client.shelf(client.make_shelf(shelf).key))


def _http(service: Service, token: str) -> httpx.Client:
    headers = {"Authorization": f"Bearer {token}"} if token else {}
    return httpx.Client(base_url=service.address, headers=headers, trust_env=False, timeout=300)


def _shown(lines: list[str]) -> list[str]:
    for line in lines[:10]:
        print("       !", line[:300], flush=True)
    return lines

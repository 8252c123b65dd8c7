"""20,000 odd calls drawn from the OpenAPI document: none is answered with an error of ours, and the service stays up."""

from __future__ import annotations

import os
from collections.abc import Iterator

import httpx
from tests.support.fuzzing import Fuzzer, failures, prepared
from tests.support.service import PASSWORD, Service

from bench.measure import Figure

CALLS = int(os.environ.get("CALLS", "20000"))
_A_TIME = 1000


def fuzz() -> Iterator[Figure]:
    """The calls, a thousand for each drawing of the generator; what fails is printed at once."""
    service = Service()
    wrong: list[str] = []
    statuses: dict[int, int] = {}
    try:
        with service.client() as client:
            for name in ("keeper", "author", "reader"):
                client.add_person(name, name.capitalize(), PASSWORD)
        headers = {"Authorization": f"Bearer {service.token()}"}
        with httpx.Client(base_url=service.address, headers=headers, trust_env=False, timeout=300) as http:
            for number in range(CALLS // _A_TIME):
                with service.client() as client:
                    known = prepared(client, client.shelf(client.make_shelf(f"Odd calls {number}").key))
                found, failed = failures(http, Fuzzer(known, 100 + number), 0, _A_TIME)
                for line in failed[:10]:
                    print("       !", line[:300], flush=True)
                wrong += failed
                for status, count in found.items():
                    statuses[status] = statuses.get(status, 0) + count
                print(f"     … {_A_TIME * (number + 1)} calls, {len(wrong)} wrong", flush=True)
    finally:
        service.stop()
    detail = ", ".join(f"{count} × {status}" for status, count in sorted(statuses.items()))
    yield Figure("B3", f"errors of ours in {CALLS} odd calls", len(wrong), "0", not wrong, detail)

"""What 500 idle, trickling and broken connections at once cost everybody else."""

from __future__ import annotations

import itertools
import socket
import statistics
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack

import httpx
from tests.support.service import Service

from bench.measure import ROUNDS, Figure

OPEN = 500
CALLS = 300
_MOST = 3.0


class _Others:
    """Five hundred connections: a quarter idle, a quarter with half a head, a quarter with a stalled body, a quarter
    that break off and come again, as long as it lasts."""

    def __init__(self, service: Service, sent: list[bytes]) -> None:
        self._port = service.port
        self._stack = ExitStack()
        self._ended = threading.Event()
        self._open = [self._connect(what) for what in itertools.islice(itertools.cycle(sent), OPEN * 3 // 4)]
        self._breaking = threading.Thread(target=self._break, args=(sent[-1],), daemon=True)
        self._breaking.start()

    def _connect(self, what: bytes) -> socket.socket:
        one = self._stack.enter_context(socket.create_connection(("127.0.0.1", self._port)))
        one.sendall(what)
        return one

    def _break(self, what: bytes) -> None:
        while not self._ended.is_set():
            with ExitStack() as stack:
                for _ in range(OPEN // 4):
                    one = stack.enter_context(socket.create_connection(("127.0.0.1", self._port)))
                    one.sendall(what)
                self._trickle()
                self._ended.wait(1.0)

    def _trickle(self) -> None:
        for one in self._open[1::3]:
            try:
                one.sendall(b"x")
            except OSError:  # the service ended what came too slowly
                continue

    def close(self) -> None:
        self._ended.set()
        self._breaking.join()
        self._stack.close()


def connections() -> Iterator[Figure]:
    """The 99th percentile of calls beside them, over that without them; rounds of both in turn."""
    service = Service()
    try:
        with service.client() as client:
            key = client.make_shelf("Connections").key
        headers = {"Authorization": f"Bearer {service.token()}"}
        put = f"PUT /api/v1/shelves/{key}/contents HTTP/1.1\r\nHost: x\r\nAuthorization: {headers['Authorization']}\r\n"
        stalled = f"{put}Content-Length: 900000\r\n\r\n".encode() + b"x" * 4000
        sent = [b"", b"GET / HTTP/1.1\r\nHost: 127", stalled]
        alone: list[float] = []
        beside: list[float] = []
        with httpx.Client(base_url=service.address, headers=headers, trust_env=False, timeout=300) as http:
            _timed(http, 50)
            for _ in range(ROUNDS):
                alone += _timed(http, CALLS)
                others = _Others(service, sent)
                beside += _timed(http, CALLS)
                others.close()
    finally:
        service.stop()
    one, other = _p99(alone), _p99(beside)
    detail = f"{1000 * other:.1f} ms against {1000 * one:.1f} ms, {ROUNDS * CALLS} calls each"
    yield Figure(
        "B2",
        f"p99 of calls beside {OPEN} connections, over without",
        other / one,
        "≤ 3 ×",
        other <= _MOST * one,
        detail,
    )


def _timed(http: httpx.Client, count: int) -> list[float]:
    took = []
    for _ in range(count):
        start = time.perf_counter()
        http.get("/api/v1/shelves").raise_for_status()
        took.append(time.perf_counter() - start)
    return took


def _p99(took: list[float]) -> float:
    return statistics.quantiles(took, n=100)[-1]

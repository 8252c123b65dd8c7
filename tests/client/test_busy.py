"""What a busy service asks to be sent again is sent again; what it refuses for good is not."""

from __future__ import annotations

import unittest
from collections.abc import Iterator

import httpx

from everyshelf.client.errors import ProblemError
from everyshelf.client.transport import Transport


class _Busy:
    """Answers the first uploads with 503, then takes one."""

    def __init__(self, times: int, headers: dict[str, str]) -> None:
        self._times, self._headers = times, headers
        self.bodies: list[bytes] = []

    def __call__(self, request: httpx.Request) -> httpx.Response:
        self.bodies.append(request.read())
        if len(self.bodies) <= self._times:
            return httpx.Response(503, headers=self._headers, json={"code": "service.busy", "detail": "busy"})
        return httpx.Response(201, json={"id": "x"})


def _sent(busy: _Busy) -> dict[str, str]:
    transport = Transport("http://127.0.0.1:1", None)
    transport._http = httpx.Client(base_url="http://127.0.0.1:1", transport=httpx.MockTransport(busy))

    def pieces() -> Iterator[bytes]:
        yield from (b"zone,", b"fare\n")

    return transport.put_again("contents", pieces, 10, dict[str, str])


class BusyTests(unittest.TestCase):
    def test_a_body_is_sent_whole_again_after_the_time_that_is_asked_for(self) -> None:
        busy = _Busy(2, {"Retry-After": "1"})
        self.assertEqual(_sent(busy), {"id": "x"})
        self.assertEqual(busy.bodies, [b"zone,fare\n"] * 3)

    def test_a_full_disk_is_not_tried_again(self) -> None:
        busy = _Busy(1, {})
        with self.assertRaises(ProblemError):
            _sent(busy)
        self.assertEqual(len(busy.bodies), 1)


if __name__ == "__main__":
    unittest.main()

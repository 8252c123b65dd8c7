"""Large uploads of one person are packed in turns, and those that wait leave threads for others."""

from __future__ import annotations

import fcntl
import hashlib
import os
import socket
import unittest
from collections.abc import Iterator
from contextlib import contextmanager

from everyshelf.service.base.lanes import MOST_WAITING_EACH
from tests.support.service import Service
from tests.support.waiting import PATIENCE, until

_BYTES = 9_000_000


@contextmanager
def places_taken(service: Service, name: str, person: str, places: int) -> Iterator[None]:
    """Another process of the service has all the places of a person in a lane."""
    folder = service.data / "lanes"
    folder.mkdir(exist_ok=True)
    own = hashlib.sha256(person.encode()).hexdigest()[:16]
    locks = [os.open(folder / f"{name}-{own}-{place}", os.O_RDWR | os.O_CREAT, 0o600) for place in range(places)]
    try:
        for lock in locks:
            fcntl.flock(lock, fcntl.LOCK_EX)
        yield
    finally:
        for lock in locks:
            os.close(lock)


class Upload:
    """A large upload over a connection of its own, sent whole."""

    def __init__(self, service: Service, token: str, shelf: str) -> None:
        head = (
            f"PUT /api/v1/shelves/{shelf}/contents HTTP/1.1\r\nHost: 127.0.0.1:{service.port}\r\n"
            f"Authorization: Bearer {token}\r\nContent-Type: application/octet-stream\r\n"
            f"Content-Length: {_BYTES}\r\nConnection: close\r\n\r\n"
        )
        self._socket = socket.create_connection(("127.0.0.1", service.port))
        self._socket.sendall(head.encode() + os.urandom(_BYTES))
        self._said = b""

    def answer(self, seconds: float = PATIENCE) -> bytes:
        """What is answered, but for its body; empty if nothing is for so long."""
        self._socket.settimeout(seconds)
        try:
            while b"\r\n\r\n" not in self._said and (piece := self._socket.recv(65536)):
                self._said += piece
        except TimeoutError:
            return b""
        self.leave()
        return self._said

    def leave(self) -> None:
        """Close the connection."""
        self._socket.close()


class UploadTests(unittest.TestCase):
    """A service whose only person uploads far more than is packed at once."""

    def test_many_wait_others_come_back_later_and_who_leaves_waits_no_more(self) -> None:
        service = Service(settings={"EVERYSHELF_WORKERS": "1"})
        self.addCleanup(service.stop)
        with service.client() as client:
            shelf, token = client.make_shelf("Uploads").key, service.token()
            with places_taken(service, "take in", "owner", max(1, (os.cpu_count() or 1) // 2)):
                sent = [Upload(service, token, shelf) for _ in range(MOST_WAITING_EACH + 2)]
                refused = self.refused_of(sent, 2)
                self.assertTrue(all(b"\r\nRetry-After: 2\r\n" in said for said in refused.values()), refused)
                waiting = [upload for upload in sent if upload not in refused]
                self.assertEqual([one.key for one in client.shelves()], [shelf], "others are answered")
                waiting.pop().leave()
                until(lambda: self.waits(service, token, shelf, waiting), "one that left has made room")
            for upload in waiting:
                said = upload.answer()
                self.assertTrue(said.startswith(b"HTTP/1.1 201"), said)

    def refused_of(self, sent: list[Upload], expected: int) -> dict[Upload, bytes]:
        """Those that were answered, which is only as many as are expected."""
        found: dict[Upload, bytes] = {}

        def all_found() -> bool:
            found.update({upload: said for upload in sent if upload not in found and (said := upload.answer(0.1))})
            return len(found) >= expected

        until(all_found, "some are refused")
        self.assertEqual({said.split(b"\r\n")[0] for said in found.values()}, {b"HTTP/1.1 503 Service Unavailable"})
        self.assertEqual(len(found), expected)
        return found

    def waits(self, service: Service, token: str, shelf: str, waiting: list[Upload]) -> bool:
        """Whether one more upload waits: it is not answered when one that came after it is refused."""
        another, after = Upload(service, token, shelf), Upload(service, token, shelf)
        until(lambda: another.answer(0.1) or after.answer(0.1), "one of the two is refused")
        if another.answer(1.0):
            after.leave()
            return False
        waiting.append(another)
        return True


if __name__ == "__main__":
    unittest.main()

"""One place where requests are sent and failures become errors of ours."""

from __future__ import annotations

import time
import uuid
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from typing import Any, TypeVar

import httpx
import msgspec

from everyshelf.client.errors import ProblemError, UnreachableError
from everyshelf.decoding import from_json

T = TypeVar("T")
_TRIES = 4
# How often an answer is waited for that a job works out first: what it was about may move on meanwhile.
_MOST_WAITS = 20
_PIECE_BYTES = 1024 * 1024
_BUSY_SECONDS = 900.0  # for which a body is sent again to a service that says it is busy
_TURN_SECONDS = 360.0  # for which an upload may wait at the service, and a little more
_PACKED_BYTES_A_SECOND = 5_000_000  # at the least, on a busy machine


# Gives a function that is told how far a job is that an answer waits for: done, total, and a note.
Working = Callable[[], AbstractContextManager[Callable[[int, int, str], None]]]


def nothing_shown() -> AbstractContextManager[Callable[[int, int, str], None]]:
    """For callers that show no progress."""
    return nullcontext(lambda _done, _total, _note: None)


class Transport:
    """Sends requests to one service."""

    def __init__(
        self, address: str, token: str | None, *, timeout_seconds: float = 60.0, working: Working = nothing_shown
    ) -> None:
        self._working = working
        self.address = address.rstrip("/")
        headers = {"User-Agent": "everyshelf-client"}
        if token:
            headers["Authorization"] = f"Bearer {token}"
        # trust_env would send requests for loopback addresses through a proxy of the surroundings.
        self._http = httpx.Client(
            base_url=f"{self.address}/api/v1/",
            headers=headers,
            timeout=timeout_seconds,
            trust_env=False,
            # Loading certificates takes longer than most requests, and plain HTTP has no use for them.
            verify=self.address.startswith("https:"),
        )

    def close(self) -> None:
        """Give up its connections."""
        self._http.close()

    def get(self, path: str, kind: type[T], /, **query: Any) -> T:
        """A typed answer."""
        return self._decode(self._send("GET", path, params=_clean(query)), kind)

    def text(self, path: str, /, **query: Any) -> str:
        """An answer that is a text."""
        return self._send("GET", path, params=_clean(query)).content.decode("utf-8")

    def raw(self, path: str, /, **query: Any) -> bytes:
        """The bytes of an answer that a job may have to work out first."""
        return self._send("GET", path, params=_clean(query)).content

    def send(self, method: str, path: str, body: Any = None, kind: type[T] | None = None, key: str = "") -> T:
        """Write something. An idempotency key makes it safe to repeat after a lost answer; one of the caller's own lets
        it be asked for again later."""
        content = msgspec.json.encode(body if body is not None else {})
        headers = {"Content-Type": "application/json", "Idempotency-Key": key or uuid.uuid4().hex}
        response = self._send(method, path, content=content, headers=headers)
        return self._decode(response, kind) if kind is not None else None  # type: ignore[return-value]

    def bytes_of(self, method: str, path: str, body: Any) -> bytes:
        """The bytes of an answer to a question that has a body and changes nothing."""
        headers = {"Content-Type": "application/json"}
        return self._send(method, path, content=msgspec.json.encode(body), headers=headers).content

    def put_again(self, path: str, pieces: Callable[[], Iterable[bytes]], size: int, kind: type[T]) -> T:
        """Stream a body that can be read again: what a busy service did not take is sent again when it says so."""
        end = time.monotonic() + _BUSY_SECONDS
        while True:
            try:
                return self.put_bytes(path, pieces(), size, kind)
            except ProblemError as error:
                if error.status != 503 or not error.wait or time.monotonic() + error.wait > end:
                    raise
                time.sleep(error.wait)

    def put_bytes(self, path: str, pieces: Iterable[bytes], size: int | None, kind: type[T]) -> T:
        """Stream a body; not repeated by itself, because its source may be used up."""
        headers = {"Content-Type": "application/octet-stream"}
        if size is not None:
            headers["Content-Length"] = str(size)
        # The service answers once it has packed the body, and a large one waits for its turn before.
        patience = self._http.timeout.as_dict() | {"read": _TURN_SECONDS + (size or 0) / _PACKED_BYTES_A_SECOND}
        try:
            response = self._http.put(path, content=pieces, headers=headers, timeout=httpx.Timeout(**patience))
        except httpx.HTTPError as error:
            raise self._unreachable(error) from error
        return self._decode(_checked(response), kind)

    @contextmanager
    def stream(self, path: str, /, *, headers: dict[str, str] | None = None, **query: Any) -> Iterator[Iterator[bytes]]:
        """The pieces of a body."""
        try:
            with self._http.stream("GET", path, params=_clean(query), headers=headers) as response:
                if response.status_code >= 400:
                    response.read()
                yield _checked(response).iter_raw(_PIECE_BYTES)
        except httpx.HTTPError as error:
            raise self._unreachable(error) from error

    def _send(self, method: str, path: str, **arguments: Any) -> httpx.Response:
        waited = False
        try:
            for _ in range(_MOST_WAITS):
                try:
                    return self._sent(method, path, **arguments)
                except ProblemError as error:
                    if not error.problem.get("again"):
                        raise
                    waited = True
                    self._wait(str(error.problem.get("job")))
            return self._sent(method, path, **arguments)
        except UnreachableError as error:
            error.reached = error.reached or waited
            raise

    def _wait(self, uid: str) -> None:
        """Until the job ended that works an answer out; raises ``ProblemError`` if it failed or was cancelled."""
        pause = 0.05
        with self._working() as show:
            while True:
                job = self._decode(self._sent("GET", f"jobs/{uid}"), dict[str, Any])
                show(job["done"], job["total"], job["note"])
                if job["ended"]:
                    break
                time.sleep(pause)
                pause = min(pause * 1.4, 0.5)
        if job["state"] != "done":
            problem = job["problem"] or {"detail": f"the job was {job['state']}"}
            raise ProblemError(int(problem.get("status", 500)), problem)

    def _sent(self, method: str, path: str, **arguments: Any) -> httpx.Response:
        reached = False
        for attempt in range(_TRIES):
            try:
                response = self._http.request(method, path, **arguments)
            except (
                httpx.ConnectError,
                httpx.ReadError,
                httpx.ReadTimeout,  # the answer may be there by now: asked again, it is given and nothing done twice
                httpx.RemoteProtocolError,
                httpx.WriteError,
            ) as error:
                reached = reached or not isinstance(error, httpx.ConnectError)
                if attempt == _TRIES - 1 or isinstance(error, httpx.ConnectError):
                    raise self._unreachable(error, reached=reached) from error
            except httpx.HTTPError as error:
                raise self._unreachable(error, reached=reached) from error
            else:
                if response.status_code != 503 or attempt == _TRIES - 1:
                    return _checked(response)
            time.sleep(0.1 * 2**attempt)
        raise AssertionError("unreachable")

    def _unreachable(self, error: Exception, *, reached: bool = False) -> UnreachableError:
        return UnreachableError(
            f"no answer from {self.address}: {error or type(error).__name__}",
            code="service.unreachable",
            hint="Is the service running? Start it with everyshelf serve, or look at the address.",
            reached=reached,
        )

    def _decode(self, response: httpx.Response, kind: type[T]) -> T:
        try:
            return from_json(response.content, kind)
        except msgspec.DecodeError as error:
            raise UnreachableError(
                f"{self.address} answered something else than an Every Shelf service does",
                code="service.foreign",
                hint="Look at the address.",
            ) from error


def _checked(response: httpx.Response) -> httpx.Response:
    if response.status_code < 400:
        return response
    try:
        problem = from_json(response.content, dict[str, Any])
    except msgspec.DecodeError:
        problem = {"detail": f"the service answered {response.status_code}"}
    wait = response.headers.get("Retry-After", "")
    raise ProblemError(response.status_code, problem, float(wait) if wait.isdecimal() else 0.0)


def _clean(query: dict[str, Any]) -> dict[str, Any]:
    return {name.rstrip("_"): value for name, value in query.items() if value is not None}

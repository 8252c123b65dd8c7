"""Single files on the web, read by ranges (RFC 9110, sections 13 and 14)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from urllib.parse import urlsplit

import httpx

from everyshelf.core.content.outside import Stamp
from everyshelf.core.errors import EveryShelfError, InvalidError
from everyshelf.storage.outside.places import (
    NO_KEYS,
    TRIES,
    BrokenOffError,
    Found,
    Keys,
    UnreachedError,
    differs,
    nothing_there,
    read_on,
    refused,
    same_bytes,
)

_RANGE = re.compile(r"bytes (?:(\d+)-(\d+)|\*)/(\d+)")
_SECONDS = 30.0
_MOST_REDIRECTS = 5
_GONE = (404, 410)


class Web:
    """Files at https:// and http:// addresses. ``transport`` decides which hosts may be called."""

    def __init__(self, transport: httpx.BaseTransport, keys: Keys = NO_KEYS) -> None:
        headers = {"Accept-Encoding": "identity", "User-Agent": "everyshelf"}
        if keys.secret:
            headers["Authorization"] = f"Bearer {keys.secret}"
        self._client = httpx.Client(
            transport=transport,
            headers=headers,
            timeout=_SECONDS,
            follow_redirects=True,
            max_redirects=_MOST_REDIRECTS,
            trust_env=False,
        )

    @classmethod
    def over(cls, transport: Callable[[], httpx.BaseTransport], keys: Keys) -> Web:
        """The same with a transport that is made first: what makes it can be handed to another process."""
        return cls(transport(), keys)

    def listed(self, address: str) -> Iterator[Found]:
        """The one file: servers on the web do not list what they have."""
        try:
            stamp = self.stamp(address)
        except FileNotFoundError as error:
            raise nothing_there(address) from error
        name = urlsplit(address).path.rpartition("/")[2]
        if not name:
            raise InvalidError(
                f"{address} names no file", code="in_place.address", hint="On the web, register one file at a time."
            )
        yield Found("", address, stamp)

    def stamp(self, address: str) -> Stamp:
        """Ask for the first byte: what answers with a range can be read by ranges. Raise ``FileNotFoundError``."""
        for left in reversed(range(TRIES)):
            try:
                with self._asked(address, {"Range": "bytes=0-0"}) as answer:
                    if answer.status_code in _GONE:
                        raise FileNotFoundError(address)
                    if answer.status_code == 416 and _RANGE.fullmatch(answer.headers.get("Content-Range", "")):
                        return _stamp_of(answer)
                    _require_range(address, answer)
                    return _stamp_of(answer)
            except BrokenOffError:
                if not left:
                    raise
        raise AssertionError

    def read(self, address: str, stamp: Stamp, start: int, stop: int) -> Iterator[bytes]:
        """Ask for a range of what still is what it was; an answer that breaks off is asked for again from there."""
        if start >= stop:
            now = self.stamp(address)
            if not same_bytes(stamp, now):
                raise differs(address, stamp, now)
            return
        yield from read_on(address, start, stop, lambda at: self._once(address, stamp, at, stop))

    def _once(self, address: str, stamp: Stamp, start: int, stop: int) -> Iterator[bytes]:
        headers = {"Range": f"bytes={start}-{stop - 1}"}
        if stamp.etag:
            headers["If-Match"] = stamp.etag
        elif stamp.modified:
            headers["If-Unmodified-Since"] = stamp.modified
        with self._asked(address, headers) as answer:
            if answer.status_code in _GONE:
                raise FileNotFoundError(address)
            if answer.status_code in (412, 416):
                raise differs(address, stamp, self.stamp(address))
            found = _require_range(address, answer)
            now = _stamp_of(answer)
            if not same_bytes(stamp, now):
                raise differs(address, stamp, now)
            if found[0] != start or found[1] > stop:
                raise UnreachedError(address, "it answers with another range than was asked for")
            left = found[1] - start
            try:
                for piece in answer.iter_raw():
                    yield piece[:left]
                    left -= len(piece)
                    if left <= 0:
                        return
            except httpx.HTTPError as error:
                raise BrokenOffError(address, error) from error

    @contextmanager
    def _asked(self, address: str, headers: dict[str, str]) -> Iterator[httpx.Response]:
        """Raise ``BrokenOffError`` for what may be asked again, and errors of ours for what may not."""
        try:
            with self._client.stream("GET", address, headers=headers) as answer:
                if answer.status_code in (401, 403, 407):
                    raise refused(address, f"HTTP {answer.status_code}")
                if answer.status_code in (408, 425, 429) or answer.status_code >= 500:
                    raise BrokenOffError(address, f"HTTP {answer.status_code}")
                yield answer
        except (EveryShelfError, FileNotFoundError):
            raise
        except (httpx.TooManyRedirects, httpx.InvalidURL, httpx.UnsupportedProtocol) as error:
            raise InvalidError(f"{address} leads nowhere: {error}", code="in_place.address") from error
        except httpx.HTTPError as error:
            raise BrokenOffError(address, str(error) or type(error).__name__) from error


def _require_range(address: str, answer: httpx.Response) -> tuple[int, int]:
    """The range that an answer gives."""
    found = _RANGE.fullmatch(answer.headers.get("Content-Range", ""))
    if answer.status_code != 206 or found is None or found[1] is None:
        raise InvalidError(
            f"{address} cannot be read by ranges (HTTP {answer.status_code})",
            code="in_place.ranges",
            hint="Copy the file onto the shelf instead: everyshelf commit",
        )
    if answer.headers.get("Content-Encoding", "identity") != "identity":
        raise InvalidError(f"{address} is sent packed", code="in_place.ranges", hint="Copy the file onto the shelf.")
    return int(found[1]), int(found[2]) + 1


def _stamp_of(answer: httpx.Response) -> Stamp:
    """Raise ``InvalidError`` where nothing would tell that the file was written again."""
    found = _RANGE.fullmatch(answer.headers.get("Content-Range", ""))
    etag, modified = answer.headers.get("ETag", ""), answer.headers.get("Last-Modified", "")
    if etag.startswith("W/"):
        etag = ""  # a weak one may stay while bytes change (RFC 9110, 8.8.1)
    if found is None or not (etag or modified):
        raise InvalidError(
            f"{answer.url} says neither an ETag nor when it was last changed, so a change could not be noticed",
            code="in_place.stamp",
            hint="Copy the file onto the shelf instead: everyshelf commit",
        )
    return Stamp(int(found[3]), modified, etag=etag)

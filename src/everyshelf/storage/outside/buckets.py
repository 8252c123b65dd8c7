"""Objects of buckets, read by ranges (Amazon S3 API reference, version 2006-03-01; through boto3).

The credentials are those that were given for the place, never those of the machine: whoever may register data must not
read, through the service, what only the service may.
"""

from __future__ import annotations

import functools
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, TypeVar
from urllib.parse import quote, unquote

from everyshelf.core.content.outside import Stamp
from everyshelf.core.errors import EveryShelfError, InvalidError
from everyshelf.storage.addresses import BucketAddress, parse_bucket
from everyshelf.storage.outside.places import (
    NO_KEYS,
    PIECE_BYTES,
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

if TYPE_CHECKING:
    from botocore.exceptions import ClientError

_CONNECT_SECONDS, _READ_SECONDS = 5, 60
_ABSENT = ("404", "NoSuchKey", "NotFound")
_ANOTHER = ("412", "PreconditionFailed", "InvalidRange", "416")
_REFUSED = ("AccessDenied", "403", "InvalidAccessKeyId", "SignatureDoesNotMatch", "ExpiredToken")
T = TypeVar("T")


@dataclass(frozen=True)
class ObjectAddress:
    """A key of a bucket, exactly; and the address of the service that has the bucket (empty: the default one)."""

    bucket: str
    key: str
    endpoint: str = ""

    def __str__(self) -> str:
        asked = f"?endpoint={quote(self.endpoint, safe=':/')}" if self.endpoint else ""
        return f"s3://{self.bucket}/{quote(self.key)}{asked}"

    @property
    def told(self) -> str:
        """The address for people."""
        return f"s3://{self.bucket}/{self.key}"

    @property
    def host(self) -> tuple[str, int]:
        """Host and port that are connected to."""
        return BucketAddress(self.bucket, "", self.endpoint).host


class Buckets:
    """Objects at s3:// addresses. ``may_call`` raises for hosts that may not be called, before each call."""

    def __init__(self, may_call: Callable[[str, int], Any], keys: Keys = NO_KEYS) -> None:
        self._may_call, self._keys = may_call, keys

    def listed(self, address: str) -> Iterator[Found]:
        """List an object, or all objects below a prefix, in the order of their names."""
        place = parse_object(address)
        if place.key and not place.key.endswith("/"):
            try:
                yield Found("", str(place), self.stamp(address))
                return
            except FileNotFoundError:
                place = replace(place, key=f"{place.key}/")
        found = False
        for one in self._objects(place):
            name: str = one["Key"].removeprefix(place.key)
            if not name or name.endswith("/"):
                continue  # a mark for an empty folder
            found = True
            yield Found(name, str(replace(place, key=one["Key"])), _listed_stamp(one))
        if not found:
            raise nothing_there(place.told)

    def _objects(self, place: ObjectAddress) -> Iterator[dict[str, Any]]:
        more: dict[str, str] = {}
        while True:
            asked = dict(more)
            answer = self._tried(
                place,
                lambda asked=asked: self._client(place).list_objects_v2(  # type: ignore[misc]
                    Bucket=place.bucket, Prefix=place.key, **asked
                ),
            )
            yield from answer.get("Contents", ())
            if not answer.get("IsTruncated"):
                return
            more = {"ContinuationToken": answer["NextContinuationToken"]}

    def stamp(self, address: str) -> Stamp:
        """Ask for the object's head; raise ``FileNotFoundError``."""
        place = parse_object(address)
        return _stamp_of(
            self._tried(place, lambda: self._client(place).head_object(Bucket=place.bucket, Key=place.key))
        )

    def read(self, address: str, stamp: Stamp, start: int, stop: int) -> Iterator[bytes]:
        """Ask for a range of what still has its ETag; an answer that breaks off is asked for again from there."""
        if start >= stop:
            now = self.stamp(address)
            if not same_bytes(stamp, now):
                raise differs(address, stamp, now)
            return
        place = parse_object(address)
        yield from read_on(place.told, start, stop, lambda at: self._once(place, stamp, at, stop))

    def _once(self, place: ObjectAddress, stamp: Stamp, start: int, stop: int) -> Iterator[bytes]:
        from botocore.exceptions import BotoCoreError
        from urllib3.exceptions import HTTPError

        answer = self._tried(
            place,
            lambda: self._client(place).get_object(
                Bucket=place.bucket, Key=place.key, Range=f"bytes={start}-{stop - 1}", IfMatch=stamp.etag
            ),
            stamp,
        )
        body = answer["Body"]
        try:
            # Services of their own may not know the condition; what they answer with is looked at as well.
            if answer.get("ETag") != stamp.etag:
                raise differs(place.told, stamp, self.stamp(str(place)))
            if not answer.get("ContentRange", "").startswith(f"bytes {start}-"):
                raise UnreachedError(place.told, "it answers with another range than was asked for")
            yield from body.iter_chunks(PIECE_BYTES)
        except (BotoCoreError, HTTPError, OSError) as error:
            raise BrokenOffError(place.told, error) from error
        finally:
            body.close()

    def _tried(self, place: ObjectAddress, call: Callable[[], T], stamp: Stamp | None = None) -> T:
        from botocore.exceptions import BotoCoreError, ClientError

        self._may_call(*place.host)
        try:
            return call()
        except ClientError as error:
            raise self._problem(place, error, stamp) from error
        except (BotoCoreError, OSError) as error:
            raise UnreachedError(place.told, error) from error

    def _problem(self, place: ObjectAddress, error: ClientError, stamp: Stamp | None) -> Exception:
        code = str(error.response.get("Error", {}).get("Code", ""))
        if code in _ABSENT:
            return FileNotFoundError(place.told)
        if code == "NoSuchBucket":
            return InvalidError(
                f"s3://{place.bucket} does not exist", code="in_place.nothing", hint="See how it is written."
            )
        if code in _ANOTHER and stamp is not None:
            try:
                return differs(place.told, stamp, self.stamp(str(place)))
            except (EveryShelfError, FileNotFoundError) as other:
                return other
        if code in _REFUSED:
            return refused(place.told, code)
        return UnreachedError(place.told, error)

    def _client(self, place: ObjectAddress) -> Any:
        return _client(place.endpoint, self._keys, os.getpid())


def parse_object(address: str, endpoint: str = "") -> ObjectAddress:
    """Read ``s3://BUCKET/KEY`` with ``?endpoint=`` as ``ObjectAddress`` writes it; a key that ends with a slash means
    what lies below it. Raise ``InvalidError``."""
    whole, mark, asked = address.strip().partition("?")
    head, _, key = whole.removeprefix("s3://").partition("/")
    named = parse_bucket(f"s3://{head}{mark}{asked}", endpoint)
    return ObjectAddress(named.bucket, unquote(key), named.endpoint)


def _listed_stamp(one: dict[str, Any]) -> Stamp:
    return Stamp(one["Size"], one["LastModified"].isoformat(), etag=one["ETag"])


def _stamp_of(answer: dict[str, Any]) -> Stamp:
    return Stamp(answer["ContentLength"], answer["LastModified"].isoformat(), etag=answer["ETag"])


@functools.lru_cache(maxsize=32)
def _client(endpoint: str, keys: Keys, _process: int) -> Any:
    """A client for the process: connections are not shared with others."""
    import boto3
    from botocore import UNSIGNED
    from botocore.config import Config

    how = Config(
        retries={"mode": "standard", "max_attempts": TRIES},
        connect_timeout=_CONNECT_SECONDS,
        read_timeout=_READ_SECONDS,
        s3={"addressing_style": "path"} if endpoint else {},
        response_checksum_validation="when_required",
        **({} if keys.key_id else {"signature_version": UNSIGNED}),
    )
    session = boto3.session.Session(
        aws_access_key_id=keys.key_id or None, aws_secret_access_key=keys.secret or None, region_name="us-east-1"
    )
    return session.client("s3", endpoint_url=endpoint or None, config=how)

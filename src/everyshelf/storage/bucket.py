"""A bucket of an S3-compatible service, as named objects (Amazon S3 API reference, version 2006-03-01; through boto3).

Credentials come from where boto3 looks for them: ``AWS_ACCESS_KEY_ID`` and its like, files of profiles, the machine.
Each call is tried again before it fails; what fails then is ``OutOfReachError``, and nothing is said of the objects.
"""

from __future__ import annotations

import functools
import os
import time
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn, TypeVar

from everyshelf.core.errors import OutOfReachError
from everyshelf.storage.addresses import BucketAddress
from everyshelf.storage.away import PIECE_BYTES, Away, Progress

if TYPE_CHECKING:
    from botocore.exceptions import ClientError

_TRIES = 3
_PAUSE_SECONDS = 5
_CONNECT_SECONDS, _READ_SECONDS = 5, 60
_MOST_AT_ONCE = 1000  # of objects removed by one call
_ABSENT = ("404", "NoSuchKey", "NotFound")

# By endpoint: when a service was last found not to answer by this process, and what was said of it.
_away: dict[str, tuple[float, OutOfReachError]] = {}

Result = TypeVar("Result")


class Bucket(Away):
    """The objects below the prefix of an address."""

    def __init__(self, address: BucketAddress) -> None:
        self.address: BucketAddress = address

    def require_answering(self) -> None:
        """Raise ``OutOfReachError`` at once if the service was found not to answer moments ago: whoever reads for a
        request must not keep a thread, for the time of all tries, from those who commit."""
        away = _away.get(self.address.endpoint)
        if away is not None and time.monotonic() - away[0] < _PAUSE_SECONDS:
            raise away[1]

    def read(self, name: str, offset: int, length: int) -> bytes:
        """Up to ``length`` bytes of an object from ``offset``; raises ``FileNotFoundError``."""
        if length <= 0:
            return b""

        def get() -> bytes:
            found = self._client().get_object(**self._key(name), Range=f"bytes={offset}-{offset + length - 1}")
            data: bytes = found["Body"].read()
            return data

        return self._tried(get, past_the_end=b"")

    def names(self) -> dict[str, int]:
        """All objects, with their lengths."""

        def listed() -> dict[str, int]:
            pages = (
                self._client().get_paginator("list_objects_v2").paginate(Bucket=self.address.bucket, Prefix=self._below)
            )
            return {one["Key"][len(self._below) :]: one["Size"] for page in pages for one in page.get("Contents", ())}

        return self._tried(listed)

    def written_before(self, moment: datetime) -> set[str]:
        """The objects that were written before a moment, by the clock of the service that has them."""

        def listed() -> set[str]:
            pages = (
                self._client().get_paginator("list_objects_v2").paginate(Bucket=self.address.bucket, Prefix=self._below)
            )
            every = (one for page in pages for one in page.get("Contents", ()))
            return {one["Key"][len(self._below) :] for one in every if one["LastModified"] < moment}

        return self._tried(listed)

    def write(self, name: str, data: bytes) -> None:
        """Create or replace a small object."""
        self._tried(lambda: self._client().put_object(**self._key(name), Body=data))

    def send(self, name: str, path: Path, progress: Progress = lambda done: None) -> None:
        """Create or replace an object by the bytes of a file, in parts where it is large; ``progress`` is told how many
        were sent."""
        from boto3.s3.transfer import TransferConfig

        # In this thread: whoever is told of progress may raise, and holds a connection to the records.
        how = TransferConfig(multipart_threshold=PIECE_BYTES, multipart_chunksize=PIECE_BYTES, use_threads=False)

        def put() -> None:
            sent = 0

            def told(more: int) -> None:
                nonlocal sent
                sent += more
                progress(sent)

            self._client().upload_file(str(path), **self._key(name), Config=how, Callback=told)

        self._tried(put, tries=2)

    def remove(self, names: list[str]) -> None:
        """Remove objects; nothing happens for those that are gone already."""
        for start in range(0, len(names), _MOST_AT_ONCE):
            keys = [{"Key": self._below + name} for name in names[start : start + _MOST_AT_ONCE]]
            self._tried(
                lambda keys=keys: self._client().delete_objects(  # type: ignore[misc]
                    Bucket=self.address.bucket, Delete={"Objects": keys, "Quiet": True}
                )
            )

    @property
    def _below(self) -> str:
        return f"{self.address.prefix}/" if self.address.prefix else ""

    def _key(self, name: str) -> dict[str, str]:
        return {"Bucket": self.address.bucket, "Key": self._below + name}

    def _client(self) -> Any:
        return _client(self.address.endpoint, os.getpid())

    def _tried(self, call: Callable[[], Result], *, tries: int = _TRIES, past_the_end: Result | None = None) -> Result:
        """The answer of a call. boto3 tries again what was not answered; an answer that broke off is asked for again
        here. ``past_the_end``: what a read behind the last byte gives."""
        from boto3.exceptions import Boto3Error
        from botocore.exceptions import BotoCoreError, ClientError
        from urllib3.exceptions import HTTPError

        while True:
            tries -= 1
            try:
                answer = call()
                _away.pop(self.address.endpoint, None)
                return answer
            except ClientError as error:
                code = error.response.get("Error", {}).get("Code", "")
                if code in _ABSENT:
                    raise FileNotFoundError(self.address.told) from error
                if code == "InvalidRange" and past_the_end is not None:
                    return past_the_end
                self._refused(error, code)
            except FileNotFoundError:
                raise  # the file that was to be sent
            except (BotoCoreError, Boto3Error, HTTPError, OSError) as error:
                if tries <= 0 or type(error).__name__ in ("NoCredentialsError", "EndpointConnectionError"):
                    told = self._unreached(error)
                    _away[self.address.endpoint] = time.monotonic(), told
                    raise told from error

    def _refused(self, error: ClientError, told: str) -> NoReturn:
        if told == "NoSuchBucket":
            raise OutOfReachError(
                f"{self.address.told} does not exist",
                code="storage.bucket",
                hint="Create the bucket, or correct the address.",
            ) from error
        if told in ("AccessDenied", "403", "InvalidAccessKeyId", "SignatureDoesNotMatch", "ExpiredToken"):
            raise OutOfReachError(
                f"{self.address.told} refuses the credentials of this service ({told})",
                code="storage.refused",
                hint="Give it a key that may list, read, write and delete there: AWS_ACCESS_KEY_ID, "
                "AWS_SECRET_ACCESS_KEY.",
            ) from error
        raise self._unreached(error) from error

    def _unreached(self, error: Exception) -> OutOfReachError:
        if type(error).__name__ == "NoCredentialsError":
            return OutOfReachError(
                f"this service has no credentials for {self.address.told}",
                code="storage.refused",
                hint="Set AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY where it is started.",
            )
        return OutOfReachError(
            f"{self.address.told} does not answer: {str(error)[:200]}",
            code="storage.out_of_reach",
            hint="See whether it runs and can be reached from this machine. Nothing is lost: versions that could not "
            "be sent wait on its disk.",
        )


@functools.lru_cache(maxsize=8)
def _client(endpoint: str, _process: int) -> Any:
    """A client for the process: connections are not shared with others."""
    import boto3
    from botocore.config import Config

    how = Config(
        retries={"mode": "standard", "max_attempts": _TRIES},
        connect_timeout=_CONNECT_SECONDS,
        read_timeout=_READ_SECONDS,
        max_pool_connections=16,
        s3={"addressing_style": "path"} if endpoint else {},
        # Services of their own do not know the newer checksums; what is sent is read back here instead.
        request_checksum_calculation="when_required",
        response_checksum_validation="when_required",
    )
    session = boto3.session.Session(region_name=os.environ.get("AWS_REGION"))
    return session.client(
        "s3",
        endpoint_url=endpoint or None,
        region_name=session.region_name or "us-east-1",
        config=how,
    )

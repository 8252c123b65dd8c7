"""Addresses of where segments live away from the data folder: ``s3://BUCKET/PREFIX``, with
``?endpoint=https://HOST`` for a service of one's own, and ``/FOLDER``, written down as ``file:///FOLDER``."""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import parse_qs, quote, unquote, urlsplit

from everyshelf.core.errors import InvalidError

_BUCKET = re.compile(r"[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]")
_DEFAULT_HOST = "s3.amazonaws.com"
_FILE = "file://"


@dataclass(frozen=True)
class BucketAddress:
    """A bucket, what all names in it begin with (without slashes at its ends), and the address of the service that has
    it (empty: the default one of the credentials' region)."""

    bucket: str
    prefix: str = ""
    endpoint: str = ""

    def __str__(self) -> str:
        asked = f"?endpoint={quote(self.endpoint, safe=':/')}" if self.endpoint else ""
        return f"s3://{self.bucket}/{quote(self.prefix)}".rstrip("/") + asked

    @property
    def told(self) -> str:
        """The address for people."""
        at = f" at {self.endpoint}" if self.endpoint else ""
        return f"s3://{self.bucket}/{self.prefix}".rstrip("/") + at

    @property
    def host(self) -> tuple[str, int]:
        """Host and port that are connected to."""
        if not self.endpoint:
            return _DEFAULT_HOST, 443
        parts = urlsplit(self.endpoint)
        return parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)


@dataclass(frozen=True)
class FolderAddress:
    """A folder of this machine, of another disk or of the network."""

    path: Path

    def __str__(self) -> str:
        return f"{_FILE}{quote(str(self.path))}"

    @property
    def told(self) -> str:
        """The address for people."""
        return str(self.path)


Address = BucketAddress | FolderAddress


def is_bucket(place: object) -> bool:
    """Whether a place, as it was named, is meant to be a bucket and not a folder."""
    return str(place).startswith("s3://")


def parse_bucket(address: str, endpoint: str = "") -> BucketAddress:
    """Read an address; ``endpoint`` counts where the address names none. Raises ``InvalidError``."""
    try:
        parts = urlsplit(address.strip())
        asked = parse_qs(parts.query, strict_parsing=True) if parts.query else {}
        named = asked.get("endpoint", [endpoint])[0].rstrip("/")
        at = urlsplit(named)
        _ = at.port
    except ValueError as error:
        raise _invalid(address, str(error)) from error
    if parts.scheme != "s3" or asked.keys() - {"endpoint"}:
        raise _invalid(address, "it does not begin with s3://")
    if not _BUCKET.fullmatch(parts.netloc):
        raise _invalid(address, f"{parts.netloc!r} is not a name of a bucket")
    if named and (at.scheme not in ("http", "https") or not at.hostname or at.path or at.username):
        raise _invalid(address, f"{named!r} is not the address of a service")
    prefix = re.sub(r"/+", "/", parts.path).strip("/")
    if any(not c.isprintable() for c in prefix):
        raise _invalid(address, "its prefix holds signs that cannot be printed")
    return BucketAddress(parts.netloc, prefix, named)


def parse_address(address: str, endpoint: str = "") -> Address:
    """Read the address of a bucket, or a path from the root. Raises ``InvalidError``."""
    written = address.strip()
    path = unquote(written.removeprefix(_FILE)) if written.startswith(_FILE) else written
    if is_bucket(written):
        return parse_bucket(address, endpoint)
    if not path.startswith("/") or path.strip("/") == "" or any(not c.isprintable() for c in path):
        raise InvalidError(
            f"{address!r} is not a place where versions can live",
            code="storage.address",
            hint="Write folder for the data folder, the path of another folder from the root "
            "(/srv/every-shelf-archive), or s3://BUCKET/PREFIX.",
        )
    return FolderAddress(Path(os.path.realpath(path)))  # which takes links in a circle as they are


def _invalid(address: str, why: str) -> InvalidError:
    return InvalidError(
        f"{address!r} is not the address of a bucket: {why}",
        code="storage.address",
        hint="Write s3://BUCKET/PREFIX, with --endpoint https://HOST for a service of your own.",
    )

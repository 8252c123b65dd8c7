"""Data in place: artifacts whose bytes lie in folders of the service's machine, in buckets, on the web."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from urllib.parse import quote

import msgspec

from everyshelf.client.models import Job
from everyshelf.client.part import ShelfPart
from everyshelf.decoding import converted


class InPlace(msgspec.Struct):
    """An artifact in place; ``size`` in bytes. ``etag``: what the place calls these bytes, if it does; ``sha256``: of
    the bytes, where they were read once; ``checked``: when the place was last asked; ``problem``: what was wrong then.
    """

    path: str
    content: str
    address: str
    size: int
    etag: str
    sha256: str
    registered: datetime
    checked: datetime | None
    problem: str


class InPlaceKeys(msgspec.Struct):
    """A bucket or server that a shelf has credentials for."""

    place: str
    key_id: str
    set_by: str
    time: datetime


class InPlacePart(ShelfPart):
    """Registering data where it lies, and looking after it."""

    def in_place(self, ref: str | None = None, folder: str = "") -> Iterator[InPlace]:
        """The artifacts in place of a state, below a folder, by path."""
        for row in self._pages("in-place", ref=ref, folder=folder or None):
            yield converted(row, InPlace)

    def add_in_place(self, path: str, address: str, *, endpoint: str = "", branch: str = "", summary: str = "") -> Job:
        """Start to register the file at ``address`` as the artifact ``path``, or all files below it below that path,
        and return the job. ``address``: /FOLDER of the service's machine, s3://BUCKET/PREFIX, https://HOST/FILE.
        ``endpoint``: of the S3-compatible service that has the bucket. Nothing is copied."""
        asked = {"path": path, "address": address, "endpoint": endpoint, "branch": branch, "summary": summary}
        return self._transport.send("POST", f"{self._base}/in-place", asked, Job)

    def check_in_place(self, ref: str = "", folder: str = "", *, fingerprint: bool = False) -> Job:
        """Start to ask the places whether the data is still what it was, and return the job; with ``fingerprint`` all
        bytes are read too."""
        asked = {"ref": ref, "folder": folder, "fingerprint": fingerprint}
        return self._transport.send("POST", f"{self._base}/in-place/check", asked, Job)

    def in_place_keys(self) -> list[InPlaceKeys]:
        """The buckets and servers that the shelf has credentials for."""
        return self._transport.get(f"{self._base}/in-place/credentials", list[InPlaceKeys])

    def set_in_place_keys(
        self, address: str, secret: str, *, key_id: str = "", endpoint: str = ""
    ) -> list[InPlaceKeys]:
        """Set the credentials for the bucket or server of an address: a key and its secret, or a token."""
        asked = {"address": address, "endpoint": endpoint, "key_id": key_id, "secret": secret}
        return self._transport.send("PUT", f"{self._base}/in-place/credentials", asked, list[InPlaceKeys])

    def remove_in_place_keys(self, place: str) -> list[InPlaceKeys]:
        """Remove the credentials for a place, given as it is listed."""
        address = f"{self._base}/in-place/credentials?place={quote(place, safe='')}"
        return self._transport.send("DELETE", address, None, list[InPlaceKeys])

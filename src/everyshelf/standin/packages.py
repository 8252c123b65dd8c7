"""Packages of the stand-in: a zip with ``contents.json`` and the bodies of its objects under ``bodies/``.

``contents.json``::

    {"format": 1, "objects": [{"name": "apps/check-in.json", "type": "screen", "sha256": "…"}], "removed": ["…"]}
"""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
from collections.abc import Iterable, Iterator
from typing import Any


class BadPackageError(ValueError):
    """What was brought is no package, or is damaged; the message says which."""


class Package:
    """An opened package."""

    def __init__(self, archive: zipfile.ZipFile, contents: dict[str, Any]) -> None:
        self._archive = archive
        self._objects: list[dict[str, str]] = contents["objects"]
        self.removed: list[str] = list(contents.get("removed", []))

    @classmethod
    def opened(cls, body: bytes) -> Package:
        """Raises ``BadPackageError``."""
        try:
            archive = zipfile.ZipFile(io.BytesIO(body))
            contents = json.loads(archive.read("contents.json"))
            if contents["format"] != 1:
                raise BadPackageError(f"format {contents['format']} is not known here")
            return cls(archive, contents)
        except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
            raise BadPackageError(f"no package: {error}") from error

    def check(self) -> None:
        """Raise ``BadPackageError`` for a body that is missing or is not what the contents say."""
        for _ in self.objects():
            pass

    def objects(self) -> Iterator[tuple[str, str, bytes]]:
        """Name, type and body of each."""
        for said in self._objects:
            try:
                body = self._archive.read(f"bodies/{said['sha256']}")
            except (KeyError, zipfile.BadZipFile) as error:
                raise BadPackageError(f"the body of {said.get('name')} is missing or damaged") from error
            if hashlib.sha256(body).hexdigest() != said["sha256"]:
                raise BadPackageError(f"the body of {said['name']} is not what its contents say")
            yield said["name"], said["type"], body


def packed(objects: Iterable[tuple[str, str, bytes]], removed: Iterable[str] = ()) -> bytes:
    """A package of these objects (name, type, body), and of what is to be removed."""
    out, said, known = io.BytesIO(), [], set()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        for name, type_, body in objects:
            sha256 = hashlib.sha256(body).hexdigest()
            said.append({"name": name, "type": type_, "sha256": sha256})
            if sha256 not in known:
                archive.writestr(f"bodies/{sha256}", body)
                known.add(sha256)
        archive.writestr("contents.json", json.dumps({"format": 1, "objects": said, "removed": sorted(removed)}))
    return out.getvalue()

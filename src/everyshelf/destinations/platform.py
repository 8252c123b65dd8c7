"""A low-code platform as destination: objects over HTTP, put in force by one call that may be repeated.

1. *Stage*: what differs is brought as one package, and beside it a package that would bring back what is there now.
2. *Switch*: the package is imported. Whether an answer that is late or lost was a yes is asked afterwards.
3. *Settle*: a package of which the platform put only half in force is imported again; if it cannot be, the other
   package brings everything back.

Objects that are as they should be are never written.
"""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import time
import zipfile
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path, PurePosixPath
from tempfile import TemporaryDirectory
from typing import Any, TypeVar
from urllib.parse import quote

import httpx
import msgspec

from everyshelf.core.errors import ConflictError, InvalidError, MissingError, OutOfReachError, RefusedError
from everyshelf.core.promotion.destination import Destination, Fetch, Manifest, Placed, Progress, no_progress
from everyshelf.decoding import from_json
from everyshelf.destinations.reach import Reach, ReachTransport

_TYPES = {"apps": "screen", "workflows": "flow", "pipelines": "flow", "settings": "connection", "access": "access"}
_TRIES = 3
_BATCH = 500  # objects read back by one call
T = TypeVar("T")


class _Object(msgspec.Struct):
    name: str
    sha256: str
    bytes: int
    changed_by: str = ""


class _Listing(msgspec.Struct):
    objects: list[_Object]
    current: str | None = None


class _Package(msgspec.Struct):
    state: str


class PlatformDestination(Destination):
    """One space of a platform. ``address`` names the space; ``timeout_seconds`` is for one answer."""

    changes_besides = True

    def __init__(self, address: str, token: str, reach: Reach, *, timeout_seconds: float = 30.0) -> None:
        self.address = address.rstrip("/")
        headers = {"Authorization": f"Bearer {token}"}
        self._http = httpx.Client(
            base_url=f"{self.address}/",
            headers=headers,
            timeout=timeout_seconds,
            transport=ReachTransport(reach),
            follow_redirects=False,
            trust_env=False,
        )

    # --- what is there ----------------------------------------------------------

    def present(self, progress: Progress = no_progress) -> Manifest:
        objects = self._listing().objects
        progress(len(objects), len(objects), "listed")
        return {o.name: Placed(o.sha256, o.bytes, o.changed_by) for o in objects}

    def current(self) -> str | None:
        return self._listing().current

    def _listing(self) -> _Listing:
        return self._read(self._call("GET", "objects"), _Listing)

    def _read(self, answer: httpx.Response, shape: type[T]) -> T:
        """What an answer says; raises ``OutOfReachError`` (destination.failed) for one that is no platform's."""
        try:
            return from_json(answer.content, shape)
        except msgspec.MsgspecError as error:
            raise OutOfReachError(
                f"{self.address} does not answer as a platform does: {str(error)[:200]}",
                code="destination.failed",
                hint="Look at the address: it is the one of a space, https://HOST/SPACE.",
            ) from error

    @contextlib.contextmanager
    def as_file(self, path: str) -> Iterator[Path]:
        with TemporaryDirectory(prefix="everyshelf-platform-") as folder:
            file = Path(folder, PurePosixPath(path).name)
            file.write_bytes(self._call("GET", f"objects/{quote(path)}").content)
            yield file

    # --- putting in place ---------------------------------------------------------

    def stage(
        self, key: str, present: Manifest, manifest: Manifest, fetch: Fetch, progress: Progress = no_progress
    ) -> None:
        put = sorted(p for p, placed in manifest.items() if present.get(p) != placed)
        gone = sorted(present.keys() - manifest.keys())
        before = [p for p in (*put, *gone) if p in present]
        total = len(put) + len(before)

        def told(paths: Iterable[str], offset: int) -> Iterator[str]:
            for done, path in enumerate(paths):
                progress(offset + done, total, path)
                yield path

        bodies = ((p, _type_of(p), b"".join(fetch(p))) for p in told(put, 0))
        self._bring(key, _packed(bodies, gone))
        old = ((p, _type_of(p), body) for p, body in self._bodies(told(before, len(put))))
        self._bring(_undo_key(key), _packed(old, [p for p in put if p not in present]))

    def _bring(self, key: str, package: bytes) -> None:
        self._call("PUT", f"packages/{key}", content=package)

    def _bodies(self, paths: Iterable[str]) -> Iterator[tuple[str, bytes]]:
        wanted = list(paths)
        for at in range(0, len(wanted), _BATCH):
            answer = self._call("POST", "export", json={"names": wanted[at : at + _BATCH]})
            yield from _unpacked(answer.content)

    def switch(self, key: str) -> None:
        self._call("POST", f"packages/{key}/import")

    def settle(self, key: str) -> bool:
        for attempt in range(_TRIES):
            state = self._state(key)
            if state != "half":
                return state == "in force"
            with contextlib.suppress(OutOfReachError):
                self._call("POST", f"packages/{key}/import")
            time.sleep(0.1 * attempt)
        if self._state(key) == "in force":
            return True
        self._call("POST", f"packages/{_undo_key(key)}/import")
        return False

    def _state(self, key: str) -> str | None:
        try:
            return self._read(self._call("GET", f"packages/{key}"), _Package).state
        except MissingError:
            return None

    def differences(self, key: str, manifest: Manifest, touched: Collection[str] | None = None) -> list[str]:
        if self._state(key) != "in force":
            return sorted(manifest)
        there = self.present()
        wrong = {p for p in there.keys() | manifest.keys() if there.get(p) != manifest.get(p)}
        read_back = sorted((manifest.keys() if touched is None else set(touched) & manifest.keys()) - wrong)
        found = {p: hashlib.sha256(body).hexdigest() for p, body in self._bodies(read_back)}
        wrong |= {p for p in read_back if found.get(p) != manifest[p].id}
        self._forget(_undo_key(key))
        return sorted(wrong)

    def undo(self, key: str) -> None:
        if self._state(key) == "half":
            self._call("POST", f"packages/{_undo_key(key)}/import")
        self._forget(key)
        self._forget(_undo_key(key))

    def _forget(self, key: str) -> None:
        self._call("DELETE", f"packages/{key}")

    # --- calls ----------------------------------------------------------------------

    def _call(self, method: str, path: str, **arguments: Any) -> httpx.Response:
        """One call; its failures in our words, the token in none of them."""
        try:
            answer = self._http.request(method, path, **arguments)
        except httpx.TimeoutException as error:
            raise OutOfReachError(f"{self.address} does not answer in time") from error
        except (httpx.HTTPError, httpx.InvalidURL, OSError) as error:
            raise OutOfReachError(f"{self.address} cannot be reached: {type(error).__name__}") from error
        if answer.is_redirect:
            raise OutOfReachError(
                f"{self.address} sends elsewhere, and the service does not follow", code="destination.failed"
            )
        if answer.is_success:
            return answer
        said = _said(answer)
        if answer.status_code in (401, 403):
            raise RefusedError(
                f"{self.address} does not let the service in: {said}",
                code="destination.refused",
                hint="Give the environment a token that is known there: everyshelf env change NAME --token.",
            )
        if answer.status_code == 404:
            raise MissingError(f"{self.address} does not have it: {said}", code="destination.missing")
        if answer.status_code >= 500:
            raise OutOfReachError(f"{self.address} failed: {said}", code="destination.failed")
        raise ConflictError(f"{self.address} does not take it: {said}", code="destination.rejected", hint="")


def _said(answer: httpx.Response) -> str:
    try:
        return str(answer.json()["error"])[:200]
    except (ValueError, KeyError, TypeError):
        return f"HTTP {answer.status_code}"


def _undo_key(key: str) -> str:
    return f"{key}-back"


def _type_of(path: str) -> str:
    """What the platform calls an artifact, by the folder it lies in."""
    return _TYPES.get(path.partition("/")[0], "resource")


def _packed(objects: Iterable[tuple[str, str, bytes]], removed: Iterable[str]) -> bytes:
    """A package as the platform takes it: ``contents.json`` and the bodies by their SHA-256."""
    out, said, known = io.BytesIO(), [], set()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as archive:
        for name, type_, body in objects:
            sha256 = hashlib.sha256(body).hexdigest()
            said.append({"name": name, "type": type_, "sha256": sha256})
            if sha256 not in known:
                known.add(sha256)
                archive.writestr(f"bodies/{sha256}", body)
        archive.writestr("contents.json", json.dumps({"format": 1, "objects": said, "removed": sorted(removed)}))
    return out.getvalue()


def _unpacked(package: bytes) -> Iterator[tuple[str, bytes]]:
    try:
        with zipfile.ZipFile(io.BytesIO(package)) as archive:
            for said in json.loads(archive.read("contents.json"))["objects"]:
                yield said["name"], archive.read(f"bodies/{said['sha256']}")
    except (zipfile.BadZipFile, KeyError, ValueError) as error:
        raise InvalidError("what the platform exports is not a package", code="destination.failed") from error

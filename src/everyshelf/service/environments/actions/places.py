"""The places environments live in: what is allowed as an address, and the destination that stands for it."""

from __future__ import annotations

from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from everyshelf.core.errors import InvalidError
from everyshelf.core.promotion import Destination, FolderDestination
from everyshelf.destinations.platform import PlatformDestination
from everyshelf.service.config import get_config
from everyshelf.service.environments.keys import unseal
from everyshelf.service.environments.models import Environment
from everyshelf.service.shelves.models import Shelf

KINDS = ("folder", "platform")


def checked_address(shelf: Shelf, kind: str, name: str, address: str) -> str:
    """The address in its one form; raises ``InvalidError`` for what the service must not write to."""
    if kind == "folder":
        return str(_checked_folder(shelf, name, address))
    parts = urlsplit(address)
    if parts.scheme not in ("http", "https") or not parts.netloc or not parts.path.strip("/"):
        raise InvalidError(
            f"{address!r} is not the address of a platform's space",
            code="environment.address",
            pointer="/address",
            hint="Give it as https://HOST/SPACE.",
        )
    if parts.username or parts.password or parts.query:
        raise InvalidError(
            "an address holds no password and no token",
            code="environment.address",
            pointer="/address",
            hint="Give the token by itself: it is kept sealed.",
        )
    return address.rstrip("/")


def _checked_folder(shelf: Shelf, name: str, folder: str) -> Path:
    """The folder, which must lie in one of the places this installation allows: a person's word must not let the
    service write just anywhere."""
    places = get_config().places
    path = Path(folder) if folder else Path(shelf.key) / name
    path = (path if path.is_absolute() else places[0] / path).resolve()
    if not any(path.is_relative_to(place.resolve()) and path != place.resolve() for place in places):
        allowed = ", ".join(str(p) for p in places)
        raise InvalidError(
            f"{path} lies in none of the places for environments",
            code="environment.folder",
            pointer="/address",
            hint=f"Choose a folder in {allowed}, or set EVERYSHELF_PLACES.",
        )
    path.mkdir(parents=True, exist_ok=True)
    return path


def destination_of(environment: Environment) -> Destination:
    """Where its artifacts live."""
    build: dict[str, Any] = {"folder": _folder, "platform": _platform}
    found: Destination = build[environment.destination](environment)
    return found


def _folder(environment: Environment) -> Destination:
    return FolderDestination(Path(environment.address))


def _platform(environment: Environment) -> Destination:
    token = unseal(environment.access) if environment.access else ""
    return PlatformDestination(environment.address, token)

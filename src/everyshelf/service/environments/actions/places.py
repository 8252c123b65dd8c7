"""The places environments live in: what is allowed as an address, and the destination that stands for it."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from dulwich.refs import check_ref_format

from everyshelf.core.databases import Database
from everyshelf.core.databases.sqlite import SqliteDatabase
from everyshelf.core.errors import InvalidError
from everyshelf.core.history.paths import check_path
from everyshelf.core.promotion import DatabaseDestination, Destination, FolderDestination
from everyshelf.destinations.git import GitDestination
from everyshelf.destinations.platform import PlatformDestination
from everyshelf.destinations.repository import RemoteBranch
from everyshelf.destinations.sql import SqlDatabase, checked_sql_address, is_sql_address
from everyshelf.service.base.config import get_config
from everyshelf.service.base.keys import unseal
from everyshelf.service.environments.actions.manifests import recorded
from everyshelf.service.environments.models import Deployment, Environment
from everyshelf.service.shelves.models import Shelf

KINDS = ("folder", "database", "platform", "git")


def checked_address(shelf: Shelf, kind: str, name: str, address: str) -> str:
    """The address in its one form; raises ``InvalidError`` for what the service must not write to."""
    if kind == "folder":
        path = _in_places(address or f"{shelf.key}/{name}", "a folder")
        path.mkdir(parents=True, exist_ok=True)
        return str(path)
    if kind == "database":
        return _checked_database(shelf, name, address)
    if kind == "git":
        return _checked_git(address)
    parts = urlsplit(address)
    if parts.scheme not in ("http", "https") or not parts.netloc or not parts.path.strip("/"):
        raise InvalidError(
            f"{address!r} is not the address of a platform's space",
            code="environment.address",
            pointer="/address",
            hint="Give it as https://HOST/SPACE.",
        )
    if parts.username or parts.password or parts.query:
        raise _with_password()
    return address.rstrip("/")


def _in_places(said: str, what: str) -> Path:
    """The path, which must lie in one of the places this installation allows: a person's word must not let the service
    write just anywhere."""
    places = get_config().places
    path = Path(said)
    path = (path if path.is_absolute() else places[0] / path).resolve()
    if not any(path.is_relative_to(place.resolve()) and path != place.resolve() for place in places):
        allowed = ", ".join(str(p) for p in places)
        raise InvalidError(
            f"{path} lies in none of the places for environments",
            code="environment.folder",
            pointer="/address",
            hint=f"Choose {what} in {allowed}, or set EVERYSHELF_PLACES.",
        )
    return path


def _checked_database(shelf: Shelf, name: str, address: str) -> str:
    """A file of SQLite's in one of the places, or the address of another database without its password."""
    if is_sql_address(address):
        return checked_sql_address(address)
    path = _in_places(address.removeprefix("sqlite:") or f"{shelf.key}/{name}.sqlite", "a file")
    path.parent.mkdir(parents=True, exist_ok=True)
    if path.is_dir() or (path.exists() and path.stat().st_size and path.open("rb").read(15) != b"SQLite format 3"):
        raise InvalidError(
            f"{path} is no SQLite database",
            code="environment.address",
            pointer="/address",
            hint="Name a database's file, one that is not there yet, or an address: postgresql+psycopg://HOST/NAME.",
        )
    return str(path)


def _checked_git(address: str) -> str:
    """``ADDRESS#BRANCH:FOLDER``: a repository over https or http, or in a folder of one of the places."""
    where, _, rest = address.partition("#")
    branch, _, folder = rest.partition(":")
    parts = urlsplit(where)
    if parts.scheme in ("http", "https") and parts.netloc and parts.path.strip("/"):
        if parts.password or parts.query:
            raise _with_password()
    elif where and "://" not in where:
        where = str(_in_places(where, "a repository"))
    else:
        raise InvalidError(
            f"{address!r} is not the address of a Git repository",
            code="environment.address",
            pointer="/address",
            hint="Write https://HOST/REPOSITORY.git#BRANCH, and :FOLDER after it if it is for one folder of it.",
        )
    branch, folder = branch or "main", folder.strip("/")
    if not check_ref_format(f"refs/heads/{branch}".encode()):
        raise InvalidError(f"{branch!r} cannot be a branch in Git", code="environment.address", pointer="/address")
    return f"{where}#{branch}" + (f":{check_path(folder)}" if folder else "")


def _with_password() -> InvalidError:
    return InvalidError(
        "an address holds no password and no token",
        code="environment.address",
        pointer="/address",
        hint="Give the token by itself: it is kept sealed.",
    )


def destination_of(environment: Environment) -> Destination:
    """Where its artifacts live."""
    build: dict[str, Any] = {"folder": _folder, "database": _database, "platform": _platform, "git": _git}
    found: Destination = build[environment.destination](environment)
    return found


def _folder(environment: Environment) -> Destination:
    return FolderDestination(Path(environment.address))


def _platform(environment: Environment) -> Destination:
    token = unseal(environment.access) if environment.access else ""
    return PlatformDestination(environment.address, token)


def _database(environment: Environment) -> Destination:
    secret = unseal(environment.access) if environment.access else ""
    if is_sql_address(environment.address):
        database: Database = SqlDatabase(environment.address, secret)
    else:
        database = SqliteDatabase(Path(environment.address))
    known = recorded(environment)
    return DatabaseDestination(database, environment.holds, records=environment.records, known=known)


def _git(environment: Environment) -> Destination:
    where, _, rest = environment.address.partition("#")
    branch, _, folder = rest.partition(":")
    user, token = urlsplit(where).username or "", unseal(environment.access) if environment.access else ""
    return GitDestination(RemoteBranch(where, branch, _copy_of(environment), user=user, token=token), folder, _said)


def _copy_of(environment: Environment) -> Path:
    """Where what a repository holds is kept beside the service."""
    return get_config().data / "repositories" / str(environment.pk)


def _said(key: str) -> tuple[str, str]:
    """Who makes a deployment, and what its commit says."""
    row = Deployment.objects.filter(key=key).select_related("tag", "environment").first()
    if row is None:
        return "", "Removed with its environment"
    back = f", back to deployment {row.rolled_back_to.number}" if row.rolled_back_to else ""
    return row.who, f"tag:{row.tag.name} into {row.environment.name}{back}\n\n{row.why}"


def forget_copies(environment: Environment) -> None:
    """Remove what was kept beside the service for an environment that is no more."""
    shutil.rmtree(_copy_of(environment), ignore_errors=True)

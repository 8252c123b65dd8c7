"""The places environments live in: what is allowed as an address, and the destination that stands for it."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any
from urllib.parse import SplitResult, urlsplit

from everyshelf.core.databases import Database
from everyshelf.core.databases.sqlite import SqliteDatabase
from everyshelf.core.errors import InvalidError
from everyshelf.core.history.paths import check_path
from everyshelf.core.promotion.database import DatabaseDestination
from everyshelf.core.promotion.destination import Destination
from everyshelf.core.promotion.folder import FolderDestination
from everyshelf.core.sharing import make_shared
from everyshelf.destinations.git import GitDestination
from everyshelf.destinations.platform import PlatformDestination
from everyshelf.destinations.reach import Reach
from everyshelf.destinations.repository import RemoteBranch
from everyshelf.destinations.sql import SqlDatabase, checked_sql_address, is_sql_address
from everyshelf.gitside.causes import Access
from everyshelf.gitside.refs import git_ref
from everyshelf.service.base.config import get_config
from everyshelf.service.base.keys import unseal
from everyshelf.service.claims.actions.repositories import listed_repository
from everyshelf.service.environments.actions.manifests import recorded
from everyshelf.service.environments.models import Deployment, Environment
from everyshelf.service.shelves.models import Shelf

_MOST_NAME_BYTES = 200
_BESIDE_DATABASES = ("-wal", "-shm", "-journal")
KINDS = ("folder", "database", "platform", "git")


def checked_address(shelf: Shelf, kind: str, name: str, address: str) -> str:
    """The address in its one form; raises ``InvalidError`` for what the service must not write to."""
    if kind == "folder":
        return str(_fresh_folder(_in_places(address or f"{shelf.key}/{name}", "a folder")))
    if kind == "database":
        return _checked_database(shelf, name, address)
    if kind == "git":
        return _checked_git(address)
    parts = _split(address)
    if parts.scheme not in ("http", "https") or not parts.netloc or not parts.path.strip("/"):
        raise InvalidError(
            f"{address!r} is not the address of a platform's space",
            code="environment.address",
            pointer="/address",
            hint="Give it as https://HOST/SPACE.",
        )
    if parts.username or parts.password or parts.query or parts.fragment:
        raise _with_password()
    _check_host(parts)
    return address.rstrip("/")


def reach() -> Reach:
    """The hosts this installation may call."""
    return Reach(get_config().reach)


def _check_host(parts: SplitResult) -> None:
    port = parts.port or {"https": 443, "http": 80, "ssh": 22}.get(parts.scheme, 0)
    reach().check_name(parts.hostname or "", port)


def _split(address: str) -> SplitResult:
    """The parts of an address; raises ``InvalidError`` for one that has none."""
    try:
        parts = urlsplit(address)
        parts.port  # noqa: B018 - read, because reading it is what finds a port that is none
        parts.hostname  # noqa: B018
    except ValueError as error:
        raise InvalidError(
            f"{address[:200]!r} is not an address: {error}",
            code="environment.address",
            pointer="/address",
            hint="Give it as https://HOST/PATH.",
        ) from error
    return parts


def _fresh_folder(path: Path) -> Path:
    """A folder that the service makes: what lies there already is somebody's, and promoting would touch it."""
    try:
        if path.exists() and (not path.is_dir() or any(path.iterdir())):
            raise InvalidError(
                f"{path} is there already, and not empty",
                code="environment.folder",
                pointer="/address",
                hint="Name a folder that is not there yet; the service makes it.",
            )
        make_shared(path)
    except OSError as error:
        raise InvalidError(
            f"{path} cannot be made: {error.strerror}",
            code="environment.folder",
            pointer="/address",
            hint="Look at its name and at the rights of the service there.",
        ) from error
    return path


def _in_places(said: str, what: str) -> Path:
    """The path, which must lie in one of the places this installation allows: a person's word must not let the service
    write just anywhere."""
    places = get_config().places
    if any(len(part.encode("utf-8", "surrogatepass")) > _MOST_NAME_BYTES for part in said.split("/")) or any(
        ord(c) < 32 or 0xD800 <= ord(c) < 0xE000 for c in said
    ):
        raise InvalidError(
            f"{said[:80]!r} cannot be the name of {what}",
            code="environment.folder",
            pointer="/address",
            hint=f"A name has up to {_MOST_NAME_BYTES} bytes and no control characters.",
        )
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
        checked = checked_sql_address(address)
        _check_host(_split(checked))
        return checked
    path = _in_places(address.removeprefix("sqlite:") or f"{shelf.key}/{name}.sqlite", "a file")
    if not _may_be_database(path):
        raise InvalidError(
            f"{path} is not an SQLite database",
            code="environment.address",
            pointer="/address",
            hint="Name a database's file, one that is not there yet, or an address: postgresql+psycopg://HOST/NAME.",
        )
    return str(path)


def _may_be_database(path: Path) -> bool:
    if path.is_symlink() or path.name.endswith(_BESIDE_DATABASES):
        return False
    try:
        make_shared(path.parent)
        if not path.exists() or not path.stat().st_size:
            return not path.is_dir()
        with path.open("rb") as file:
            return file.read(15) == b"SQLite format 3"
    except OSError:
        return False


def _checked_git(address: str) -> str:
    """``ADDRESS#BRANCH:FOLDER``: a repository over https, http or SSH, or a folder that is listed as one."""
    where, _, rest = address.partition("#")
    branch, _, folder = rest.partition(":")
    branch, folder = branch or "main", folder.strip("/")
    if git_ref("heads", branch) is None:
        raise InvalidError(f"{branch!r} cannot be a branch in Git", code="environment.address", pointer="/address")
    parts = _split(where)
    if parts.scheme in ("http", "https", "ssh") and parts.netloc and parts.path.strip("/"):
        if parts.password or parts.query:
            raise _with_password()
        _check_host(parts)
    elif where and "://" not in where and "@" not in where.partition(":")[0] and not parts.scheme:
        where = str(listed_repository(where, "environment.folder"))
    else:
        raise InvalidError(
            f"{address!r} is not the address of a Git repository",
            code="environment.address",
            pointer="/address",
            hint="Write https://HOST/REPOSITORY.git#BRANCH or ssh://USER@HOST/PATH#BRANCH; "
            "for one folder of it, :FOLDER after it.",
        )
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
    return PlatformDestination(environment.address, token, reach())


def _database(environment: Environment) -> Destination:
    secret = unseal(environment.access) if environment.access else ""
    if is_sql_address(environment.address):
        database: Database = SqlDatabase(environment.address, secret, reach())
    else:
        database = SqliteDatabase(Path(environment.address))
    known = recorded(environment)
    return DatabaseDestination(database, environment.subfolder, records=environment.records, known=known)


def _git(environment: Environment) -> Destination:
    where, _, rest = environment.address.partition("#")
    branch, _, folder = rest.partition(":")
    user, secret = urlsplit(where).username or "", unseal(environment.access) if environment.access else ""
    if where.startswith("/"):
        listed_repository(where, "environment.folder")  # also one that was listed when the environment was made
    key, known_hosts = _key_of(secret)
    access = Access(where, user or "everyshelf", "" if key else secret, key, known_hosts)
    return GitDestination(RemoteBranch(access, branch, _copy_of(environment), reach=reach()), folder, _said)


def _key_of(secret: str) -> tuple[str, str]:
    """A private key for SSH, and the lines after it: the server's own keys. Nothing for a token."""
    if not secret.startswith("-----BEGIN "):
        return "", ""
    head, mark, rest = secret.partition("\n-----END ")
    last, _, known_hosts = rest.partition("\n")
    return f"{head}{mark}{last}\n", known_hosts


def _copy_of(environment: Environment) -> Path:
    """Where what a repository holds is kept beside the service."""
    return get_config().data / "repositories" / str(environment.pk)


def _said(key: str) -> tuple[str, str]:
    """Who makes a deployment, and what its commit says."""
    row = Deployment.objects.filter(key=key).select_related("tag", "environment").first()
    if row is None:
        return "", "Removed with its environment"
    back = f", back to deployment {row.rolled_back_to.number}" if row.rolled_back_to else ""
    return row.who, f"tag:{row.tag.name} into {row.environment.name}{back}\n\n{row.reason}"


def forget_copies(environment: Environment) -> None:
    """Remove what was kept beside the service for an environment that is no more."""
    shutil.rmtree(_copy_of(environment), ignore_errors=True)

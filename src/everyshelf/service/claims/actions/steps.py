"""What an address means, as a line of steps from the outside in; how it is spelled does not count.

One that begins another one is above it.
"""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote, urlsplit

from sqlalchemy.engine import make_url

from everyshelf.destinations.sql import is_sql_address

Steps = tuple[str, ...]
_BRANCH = "\0branch"  # no name of a file: a branch of the repository in the folder before it
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_PORTS = {"http": 80, "https": 443, "postgresql": 5432, "mysql": 3306, "mariadb": 3306}


def steps_of_environment(destination: str, address: str) -> list[Steps]:
    """What an environment at an address may touch."""
    if destination == "folder":
        return [file_steps(address)]
    if destination == "database":
        return [_database(address)] if is_sql_address(address) else [file_steps(address)]
    if destination == "git":
        where, _, rest = address.partition("#")
        branch, _, folder = rest.partition(":")
        inside = (_BRANCH, branch, *(part for part in folder.split("/") if part))
        if "://" in where:
            return [(*_host(where), *inside)]
        return [(*file_steps(where), *inside)]
    return [_host(address)]


def steps_of_link(address: str) -> list[Steps]:
    """What a link touches of this machine. A repository elsewhere is let in by its own credentials."""
    return [file_steps(address)] if address.startswith("/") else []


def ground(steps: Steps) -> Steps:
    """The folder that a repository on this machine is in; anything else is its own ground."""
    return steps[: steps.index(_BRANCH)] if steps[0] == "file" and _BRANCH in steps else steps


def is_branch(steps: Steps) -> bool:
    """Whether it is a branch of a repository on this machine."""
    return steps[0] == "file" and _BRANCH in steps


def file_steps(path: Path | str) -> Steps:
    """A folder or file of this machine."""
    return ("file", *Path(path).parts)


def _host(address: str) -> Steps:
    parts = urlsplit(address)
    host = (parts.hostname or "").rstrip(".").lower()
    host = "loopback" if host in _LOOPBACK else host
    port = parts.port or _PORTS.get(parts.scheme, 0)
    path = [unquote(part) for part in parts.path.split("/") if part not in ("", ".")]
    if path and path[-1].endswith(".git"):
        path[-1] = path[-1].removesuffix(".git")
    return ("host", host, str(port), *(part.lower() for part in path))


def _database(address: str) -> Steps:
    url = make_url(address)
    host = (url.host or "").rstrip(".").lower()
    host = "loopback" if host in _LOOPBACK else host
    port = url.port or _PORTS.get(url.get_backend_name(), 0)
    return ("host", host, str(port), "database", str(url.database))


def touches(one: Steps, other: Steps) -> bool:
    """Whether one is the other, or is above or below it."""
    shorter = min(len(one), len(other))
    return one[:shorter] == other[:shorter]

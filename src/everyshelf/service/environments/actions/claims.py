"""Which address belongs to which environment: none is equal to, above or below another's.

Else an environment on a folder above another's could read, overwrite and remove what was put there, on shelves its
maker cannot see. Compared is what the addresses mean, not how they are spelled.
"""

from __future__ import annotations

from pathlib import Path
from urllib.parse import unquote, urlsplit

from sqlalchemy.engine import make_url

from everyshelf.core.errors import ConflictError
from everyshelf.destinations.sql import is_sql_address
from everyshelf.service.environments.models import Environment

# A claim is a line of steps from the outside in; one that begins another one is above it.
Claim = tuple[str, ...]
_LOOPBACK = ("localhost", "127.0.0.1", "::1")
_PORTS = {"http": 80, "https": 443, "postgresql": 5432, "mysql": 3306, "mariadb": 3306}


def check_claim(destination: str, address: str, shelf_id: int) -> None:
    """Raise ``ConflictError`` (environment.taken) if the address is, or touches, that of another environment. Call it
    in the transaction that records the environment."""
    wanted = claims_of(destination, address)
    for other in Environment.objects.filter(ended=None).only("destination", "address", "shelf_id"):
        known = claims_of(other.destination, other.address)
        # A repository in a folder is its shelf's as a whole; there each environment has a branch or a subfolder.
        shared = other.shelf_id == shelf_id and destination == other.destination == "git" and wanted[-1] == known[-1]
        pairs = [(wanted[0], known[0])] if shared else [(one, two) for one in wanted for two in known]
        if any(touches(one, two) for one, two in pairs):
            raise ConflictError(
                f"{address} is, lies in, or holds the address of another environment",
                code="environment.taken",
                pointer="/address",
                hint="Choose an address of its own: another folder, database, branch or subfolder.",
            )


def claims_of(destination: str, address: str) -> list[Claim]:
    """What an environment at an address may touch; of a repository in a folder its branch, then its folder."""
    if destination == "folder":
        return [_file(address)]
    if destination == "database":
        return [_database(address)] if is_sql_address(address) else [_file(address)]
    if destination == "git":
        where, _, rest = address.partition("#")
        branch, _, folder = rest.partition(":")
        inside = ("git branch", branch, *(part for part in folder.split("/") if part))
        if "://" in where:
            return [(*_host(where), *inside)]
        return [("repository", where, *inside), _file(where)]
    return [_host(address)]


def _file(address: str) -> Claim:
    return ("file", *Path(address).parts)


def _host(address: str) -> Claim:
    parts = urlsplit(address)
    host = (parts.hostname or "").rstrip(".").lower()
    host = "loopback" if host in _LOOPBACK else host
    port = parts.port or _PORTS.get(parts.scheme, 0)
    path = [unquote(part) for part in parts.path.split("/") if part not in ("", ".")]
    if path and path[-1].endswith(".git"):
        path[-1] = path[-1].removesuffix(".git")
    return ("host", host, str(port), *(part.lower() for part in path))


def _database(address: str) -> Claim:
    url = make_url(address)
    host = (url.host or "").rstrip(".").lower()
    host = "loopback" if host in _LOOPBACK else host
    port = url.port or _PORTS.get(url.get_backend_name(), 0)
    return ("host", host, str(port), "database", str(url.database))


def touches(one: Claim, other: Claim) -> bool:
    """Whether one claim is, or lies above or below, the other."""
    shorter = min(len(one), len(other))
    return one[:shorter] == other[:shorter]

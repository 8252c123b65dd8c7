"""What ``everyshelf connect`` remembers on this machine: a token for each address, readable by its owner only."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from everyshelf.decoding import from_json


class Known(msgspec.Struct):
    """Tokens by address, and the address used last."""

    last: str = ""
    tokens: dict[str, str] = {}


def credentials_path() -> Path:
    """Where it is kept."""
    from platformdirs import user_config_path

    given = os.environ.get("EVERYSHELF_CONFIG")
    return (Path(given) if given else user_config_path("everyshelf")) / "connections.json"


def load_known() -> Known:
    """Return what is remembered; nothing where the file does not exist yet."""
    try:
        return from_json(credentials_path().read_bytes(), Known)
    except (FileNotFoundError, msgspec.DecodeError):
        return Known()


def token_for(address: str) -> str | None:
    """Return the token for a service that the address of a file names: EVERYSHELF_TOKEN if it is meant for that, else
    what is remembered for it.

    It is meant for the service that EVERYSHELF_ADDRESS names, or for the one connected to last: an address in another
    person's notebook must not send it elsewhere. Where neither is known it is sent to any.
    """
    known, given = load_known(), os.environ.get("EVERYSHELF_TOKEN")
    meant = (os.environ.get("EVERYSHELF_ADDRESS") or known.last).rstrip("/")
    return given if given and meant in ("", address) else known.tokens.get(address)


def remember(address: str, token: str) -> None:
    """Keep a token for an address."""
    known = load_known()
    known.last = address
    known.tokens[address] = token
    path = credentials_path()
    path.parent.mkdir(parents=True, exist_ok=True)
    part = path.with_suffix(".part")
    descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(msgspec.json.encode(known))
    os.replace(part, path)

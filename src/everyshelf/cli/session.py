"""Which service, shelf and token a command works with.

The token comes from EVERYSHELF_TOKEN, else from the file ``connect`` wrote (readable by its owner only). The address
comes from the desk, --address, EVERYSHELF_ADDRESS, or what was connected last; the shelf from the desk, --shelf or
EVERYSHELF_SHELF.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec

if TYPE_CHECKING:
    from everyshelf.client import Client, ShelfClient
    from everyshelf.desk import Desk

json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON document and nothing else.")


def shelf_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """--shelf, --address and --json, for commands that work on or off a desk."""
    function = click.option(
        "--address", help="Address of the service; default: the desk's, or the one connected last."
    )(function)
    function = click.option("--shelf", "shelf_key", help="Key of the shelf; default: the desk's.")(function)
    return json_option(function)


class Known(msgspec.Struct):
    """What ``connect`` remembers: tokens by address, and the address used last."""

    last: str = ""
    tokens: dict[str, str] = {}


def credentials_path() -> Path:
    """Where it is kept."""
    from platformdirs import user_config_path

    given = os.environ.get("EVERYSHELF_CONFIG")
    return (Path(given) if given else user_config_path("everyshelf")) / "connections.json"


def load_known() -> Known:
    """What is remembered; nothing if there is no file."""
    try:
        return msgspec.json.decode(credentials_path().read_bytes(), type=Known)
    except (FileNotFoundError, msgspec.DecodeError):
        return Known()


def remember(address: str, token: str) -> None:
    """Keep a token for an address, readable by its owner only."""
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


def find_desk() -> Desk | None:
    """The desk the command runs on, if any."""
    from everyshelf.desk import Desk, DeskError

    try:
        return Desk.find(Path.cwd())
    except DeskError as error:
        if error.code != "desk.missing":
            raise
        return None


def get_desk() -> Desk:
    """The desk the command runs on; raises ``DeskError``."""
    from everyshelf.desk import Desk

    return Desk.find(Path.cwd())


def open_client(address: str | None = None, desk: Desk | None = None) -> Client:
    """A client for the service meant."""
    known = load_known()
    address = address or (desk.home.address if desk else None) or os.environ.get("EVERYSHELF_ADDRESS") or known.last
    if not address:
        raise click.UsageError("no service is known yet. Connect to one: everyshelf connect ADDRESS")
    address = address.rstrip("/")
    return new_client(address, os.environ.get("EVERYSHELF_TOKEN") or known.tokens.get(address))


def new_client(address: str, token: str | None = None) -> Client:
    """A client, with the HTTP library loaded as lightly as it can be."""
    with _without("trio"):
        from everyshelf.client import Client

    from everyshelf.cli import terminal

    return Client(address, token, working=lambda: terminal.progress_bar("Merging"))


@contextmanager
def _without(name: str) -> Iterator[None]:
    """Keep an optional package out of an import: the HTTP library would load a whole second event loop, where one
    happens to be installed, and no command uses it."""
    known = name in sys.modules
    if not known:
        sys.modules[name] = None  # type: ignore[assignment]
    try:
        yield
    finally:
        if not known:
            del sys.modules[name]


def open_shelf(shelf_key: str | None, address: str | None) -> tuple[ShelfClient, Desk | None]:
    """The shelf meant, and the desk if the command runs on one of that shelf."""
    desk = None if shelf_key and address else find_desk()
    key = shelf_key or (desk.home.shelf if desk else None) or os.environ.get("EVERYSHELF_SHELF")
    if not key:
        raise click.UsageError("which shelf? Run the command on a desk, or name it: --shelf KEY")
    if desk is not None and key != desk.home.shelf:
        desk = None
    return open_client(address, desk).shelf(key), desk


def default_ref(desk: Desk | None) -> str | None:
    """The ref meant where none is named: the desk's own, or the main branch."""
    return (desk.home.branch or desk.home.ref) if desk else None

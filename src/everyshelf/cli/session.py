"""Which service, shelf and token a command works with.

The token comes from EVERYSHELF_TOKEN, else from the file ``connect`` wrote (readable by its owner only). The address
comes from the desk, --address, EVERYSHELF_ADDRESS, or what was connected last; the shelf from the desk, --shelf or
EVERYSHELF_SHELF.
"""

from __future__ import annotations

import os
import shlex
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from everyshelf.client import Client, ShelfClient
    from everyshelf.desk.desk import Desk


def find_desk(folder: Path | None = None) -> Desk | None:
    """The desk the command runs on, or a folder is or lies on, if any."""
    from everyshelf.desk.desk import Desk
    from everyshelf.desk.errors import DeskError

    try:
        return Desk.find(folder or Path.cwd())
    except DeskError as error:
        if error.code != "desk.missing":
            raise
        return None


def take_command(shelf_key: str, name: str = "", branch: str = "") -> str:
    """The command that takes a shelf into a folder of that name: beside the desk the command runs on, else here. If
    that is a desk already, the command that goes there."""
    desk = find_desk()
    folder = name or shelf_key
    if desk is not None:
        folder = os.path.relpath(desk.root.parent / folder)
    if find_desk(Path(os.path.abspath(folder))) is not None:
        return f"cd {shlex.quote(folder)} && everyshelf pending"
    words = ["everyshelf", "take", shelf_key, *([folder] if folder != shelf_key else [])]
    return shlex.join([*words, *(["--branch", branch] if branch else [])])


def get_desk() -> Desk:
    """The desk the command runs on; raises ``DeskError``."""
    from everyshelf.desk.desk import Desk

    return Desk.find(Path.cwd())


def open_client(address: str | None = None, desk: Desk | None = None, timeout_seconds: float = 60.0) -> Client:
    """A client for the service meant."""
    with _without("trio"):  # the client comes with it
        from everyshelf.client.known import load_known
    known = load_known()
    address = address or (desk.home.address if desk else None) or os.environ.get("EVERYSHELF_ADDRESS") or known.last
    if not address:
        raise click.UsageError("no service is known yet. Connect to one: everyshelf connect ADDRESS")
    address = address.rstrip("/")
    return new_client(address, os.environ.get("EVERYSHELF_TOKEN") or known.tokens.get(address), timeout_seconds)


def new_client(address: str, token: str | None = None, timeout_seconds: float = 60.0) -> Client:
    """A client, with the HTTP library loaded as lightly as it can be."""
    from everyshelf.cli import terminal

    bar = terminal.progress_bar
    with _without("trio"):  # the transport is loaded when a client is made
        from everyshelf.client import Client

        return Client(address, token, timeout_seconds=timeout_seconds, working=lambda: bar("Working it out"))


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


def open_shelf(
    shelf_key: str | None, address: str | None, timeout_seconds: float = 60.0
) -> tuple[ShelfClient, Desk | None]:
    """The shelf meant, and the desk if the command runs on one of that shelf."""
    desk = None if shelf_key and address else find_desk()
    key = shelf_key or (desk.home.shelf if desk else None) or os.environ.get("EVERYSHELF_SHELF")
    if not key:
        raise click.UsageError("which shelf? Run the command on a desk, or name it: --shelf KEY")
    if desk is not None and key != desk.home.shelf:
        desk = None
    return open_client(address, desk, timeout_seconds).shelf(key), desk


def default_ref(desk: Desk | None) -> str | None:
    """The ref meant where none is named: the desk's own, or the main branch."""
    return (desk.home.branch or desk.home.ref) if desk else None

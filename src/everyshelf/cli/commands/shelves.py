"""``shelf``."""

from __future__ import annotations

import json
import os
import shlex
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, json_option, shelf_options
from everyshelf.cli.session import find_desk, open_client, open_shelf, take_command

if TYPE_CHECKING:
    from everyshelf.client.client import Client
    from everyshelf.client.shelf import ShelfClient
    from everyshelf.desk.desk import Desk

# Folders that programs make and make again; nobody wants their versions.
_GENERATED = {"__pycache__", ".ipynb_checkpoints", "node_modules", ".venv", ".mypy_cache", ".pytest_cache"}


@click.group("shelf", cls=Commands)
def shelf() -> None:
    """List, make and change shelves."""


@shelf.command("list")
@click.option("--address", help="Address of the service.")
@json_option
def shelf_list(address: str | None, as_json: bool) -> None:
    """List the shelves you may see."""
    found = open_client(address).shelves()
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(terminal.count(len(found), "shelf", "shelves")) + ".")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(terminal.KIND, path=True), terminal.Column(terminal.DETAIL - 10))
    )
    for one in found:
        numbers = f"{terminal.count(one.commits, 'commit')}, {terminal.count(one.branches, 'branch', 'branches')}"
        numbers += f", {terminal.count(one.tags, 'tag')}"
        listing.row(one.role or "reader", (one.key, terminal.bold), numbers)
    listing.show()
    terminal.next_step(take_command(found[0].key) if found else "everyshelf shelf make NAME")


@shelf.command("show")
@shelf_options
def shelf_show(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Show a shelf in numbers, your role on it, and where Git and file managers find it."""
    found, desk = open_shelf(shelf_key, address)
    info, page = found.info(), found.git_commits(limit=5)
    person = open_client(address, desk).person()
    git = found.git_address(person or "")
    if as_json:
        terminal.print_json({"shelf": info, "git": git, "folder": found.folder_address(), "commits": page.items})
        return
    terminal.say(f"{terminal.bold(info.name)} ({info.key}). {info.description}".strip())
    numbers = [terminal.count(info.commits, "commit"), terminal.count(info.branches, "branch", "branches")]
    numbers += [terminal.count(info.tags, "tag"), terminal.count(info.environments, "environment")]
    terminal.say(f"  {', '.join(numbers)}. Your role: {info.role or 'reader'}.")
    if info.store != "main":
        terminal.say(f"  Its bytes live in the store {info.store}.")
    terminal.say("")
    terminal.say(terminal.bold("As a Git repository") + " (the password is a token)")
    terminal.say(f"  git clone {git}")
    terminal.say(terminal.bold("As a network folder") + " (WebDAV; the password is a token)")
    terminal.say(f"  {found.folder_address()}")
    if page.items:
        listing = terminal.Listing((terminal.Column(2), terminal.Column(2), terminal.Column(terminal.DETAIL)))
        for one in page.items:
            listing.row(one.commit[:8], one.git[:8] if one.git else "not yet", one.summary)
        terminal.say("")
        terminal.say(terminal.dim("  shelf     git       recorded last"))
        listing.show()
    terminal.next_step("everyshelf token make NAME --scope read --scope write")


@shelf.command("make")
@click.argument("name")
@click.option("--description", default="", help="What the shelf is for.")
@click.option("--key", help="Key in addresses; default: made from the name.")
@click.option("--open", "open_to_all", is_flag=True, help="Let all signed-in users read it.")
@click.option("--store", default="main", show_default=True, help="The store where its bytes live.")
@click.option(
    "--folder",
    type=click.Path(exists=True, file_okay=False, path_type=Path),
    help="Make this existing folder a desk of the new shelf; its files are pending until you commit them.",
)
@click.option("--address", help="Address of the service.")
@json_option
def shelf_make(
    name: str,
    description: str,
    key: str | None,
    open_to_all: bool,
    store: str,
    folder: Path | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Make the shelf NAME with an empty main branch. With --folder, bring in the files you already have."""
    client = open_client(address)
    if folder is not None:
        _check_may_be_desk(folder)
    made = client.make_shelf(name, description=description, key=key, open_to_all=open_to_all, store=store)
    desk, ignored = None, []
    if folder is not None:
        from everyshelf.desk.desk import Desk, Origin

        origin = Origin(client.address, made.key, made.main_branch, made.main_branch)
        ignored = _ignore_generated(folder)
        desk = Desk.make(Path(os.path.abspath(folder)), origin)
    if as_json:
        terminal.print_json(made)
        return
    terminal.say(terminal.bold(f"Created shelf {made.name}") + f" with an empty branch {made.main_branch}.")
    if desk is None:
        terminal.next_step(take_command(made.key))
        return
    _print_brought(desk, ignored)
    here = "" if Path.cwd() == desk.root else f"cd {shlex.quote(str(folder))} && "
    terminal.next_step(f"{here}everyshelf pending")


def _check_may_be_desk(folder: Path) -> None:
    """Raise before a shelf is made for a folder that cannot be its desk."""
    outer = find_desk(Path(os.path.abspath(folder)))
    if outer is not None:
        raise click.UsageError(f"{folder} is, or lies on, the desk {outer.root}; choose a folder outside it")


def _ignore_generated(folder: Path) -> list[str]:
    """Begin a ``shelf.toml`` that leaves out what programs generate, if any of it is there and no such file is."""
    rules = folder / "shelf.toml"
    names = {p.name for p in folder.rglob("*") if p.name in _GENERATED and p.is_dir()}
    if rules.exists() or not names:
        return []
    patterns = [f"{name}/" for name in sorted(names)]
    listed = "".join(f"  {json.dumps(pattern)},\n" for pattern in patterns)
    rules.write_text(
        f"# What is not versioned. See docs/rules.md.\n[ignore]\npatterns = [\n{listed}]\n", encoding="utf-8"
    )
    return patterns


def _print_brought(desk: Desk, ignored: list[str]) -> None:
    """What lies in a folder that became a desk: how many artifacts of which kind, how large, and what is blocked."""
    from everyshelf.desk.kinds import kinds_on_desk

    items = desk.artifacts()
    new, blocked = [i for i in items if i.state == "new"], [i for i in items if i.state == "blocked"]
    kinds = Counter(kinds_on_desk(desk, new).values())
    size = terminal.size(sum(i.size for i in new))
    terminal.say(f"  {desk.root} is a desk now: {terminal.count(len(new), 'artifact')} pending, {size}.")
    if kinds:
        terminal.labelled("kinds", ", ".join(f"{number} {kind}" for kind, number in kinds.most_common()))
    if blocked:
        terminal.labelled("blocked", f"{len(blocked)}; everyshelf pending says why")
    if ignored:
        terminal.labelled("ignored", f"{', '.join(ignored)}: generated files, left out by the new shelf.toml")
    else:
        terminal.labelled("ignored", "nothing; name what does not belong on the shelf in shelf.toml")


@shelf.command("change")
@click.option("--name", help="New name.")
@click.option("--description", help="New description.")
@click.option(
    "--open/--members-only", "open_to_all", default=None, help="Who may read it: all signed-in users, or members only."
)
@click.option("--store", help="The store where its bytes live from now on; what is there already is copied.")
@shelf_options
def shelf_change(
    name: str | None,
    description: str | None,
    open_to_all: bool | None,
    store: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Change the name and description of a shelf, who may read it, and where its bytes live."""
    if name is None and description is None and open_to_all is None and store is None:
        raise click.UsageError("nothing to change: give --name, --description, --open, --members-only or --store.")
    found, _ = open_shelf(shelf_key, address)
    moved = _move(found, store, open_client(address)) if store is not None else None
    changed = found.change(name=name, description=description, open_to_all=open_to_all)
    if as_json:
        terminal.print_json(changed)
        return
    seen = "all signed-in users can read it" if changed.open_to_all else "only its members can read it"
    if moved is None:
        terminal.say(terminal.bold(changed.name) + f": {seen}.")
        return
    copied = f"{terminal.count(moved['pieces'], 'piece')}, {terminal.size(moved['bytes'])} copied"
    terminal.say(terminal.bold(changed.name) + f": its bytes live in the store {changed.store}; {copied}.")
    if moved["left"]:
        terminal.say(f"  ‖ {terminal.count(moved['left'], 'content')} could not be copied: everyshelf verify")


def _move(found: ShelfClient, store: str, client: Client) -> dict[str, Any]:
    """Let the bytes of a shelf live in a store, and wait until they are there."""
    now = found.store()
    if now.store == store and (now.moving is None or now.moving.state == "done"):
        return {"pieces": 0, "bytes": 0, "left": 0}
    with terminal.progress_bar("Copying") as progress:
        moving = found.change_store(store).moving
        done = client.wait(moving, lambda job: progress(job.done, job.total, job.note)) if moving is not None else None
    return (done.result if done is not None else None) or {"pieces": 0, "bytes": 0, "left": 0}

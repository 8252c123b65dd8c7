"""``in-place``: artifacts whose bytes stay where they lie."""

from __future__ import annotations

import os
import shlex
from typing import TYPE_CHECKING, Any

import click
from msgspec.structs import asdict

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import Commands, at_option, shelf_options
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.client.in_place import InPlace, InPlaceKeys

_FEW = 40
_endpoint_option = click.option(
    "--endpoint", default="", help="Address of the S3-compatible service that has the bucket."
)


@click.group("in-place", cls=Commands)
def in_place() -> None:
    """Register data where it lies: versions that point at files too big to copy.

    ADDRESS is a folder or file of the service's machine (/data/trips), a bucket (s3://BUCKET/PREFIX), or a file on the
    web (https://HOST/FILE).
    """


@in_place.command("add")
@click.argument("path")
@click.argument("where", metavar="ADDRESS")
@_endpoint_option
@click.option("--into", "branch", metavar="BRANCH", default="", help="Branch to commit to; default: the main branch.")
@click.option("--summary", default="", help="Summary of the commit.")
@shelf_options
def add(
    path: str,
    where: str,
    endpoint: str,
    branch: str,
    summary: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Register the file at ADDRESS as the artifact PATH, or all files below it below PATH, and commit them.

    Nothing is copied, and nothing is read but the listing: length, time and ETag of each file. Run it again to register
    what has changed there since.
    """
    shelf, _ = open_shelf(shelf_key, address)
    with terminal.progress_bar("Listing") as progress:
        started = shelf.add_in_place(path, where, endpoint=endpoint, branch=branch, summary=summary)
        job = shelf.wait(started, lambda job: progress(job.done, job.total, job.note))
    done = job.result or {}
    if as_json:
        terminal.print_json(done)
        return
    _say_added(path, done)


def _say_added(path: str, done: dict[str, Any]) -> None:
    if done["commit"] is None:
        terminal.say(terminal.bold("Nothing has changed") + f" at {done['address']}.")
    else:
        registered = terminal.count(done["added"] + done["changed"], "artifact")
        terminal.say(terminal.bold(f"{registered} registered in place") + f" at {done['address']}; nothing was copied.")
    for what in ("added", "changed", "unchanged", "removed"):
        if done[what]:
            terminal.labelled(what, str(done[what]))
    terminal.labelled("size", terminal.size(done["size"]))
    for name, why in done["left_out"].items():
        terminal.say(f"  ‖ {name}: {why}")
    if done["more_left_out"]:
        terminal.say(f"  ‖ {done['more_left_out']} more are left out")
    terminal.next_step(f"everyshelf in-place list {shlex.quote(path)}")


@in_place.command("list")
@click.argument("folder", default="", shell_complete=completing.artifacts)
@at_option
@shelf_options
def list_them(folder: str, ref: str | None, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the artifacts in place, all or those below FOLDER: where each lies, and what was wrong when checked."""
    shelf, _ = open_shelf(shelf_key, address)
    found = list(shelf.in_place(ref, folder))
    if as_json:
        terminal.print_json([asdict(one) for one in found])
        return
    wrong = [one for one in found if one.problem]
    total = terminal.size(sum(one.size for one in found))
    terminal.say(terminal.bold(f"{terminal.count(len(found), 'artifact')} in place, {total}") + _of(wrong) + ".")
    shown = [*wrong, *(one for one in found if not one.problem)][: terminal.most(_FEW)]
    listing = terminal.Listing(
        (
            terminal.Column(0),
            terminal.Column(2, path=True),
            terminal.Column(30, right=True),
            terminal.Column(42),
            terminal.Column(60, text=True),
        )
    )
    for one in shown:
        mark = ("‖", str) if one.problem else ("·", terminal.dim)
        checked = f"checked {terminal.when(one.checked)}" if one.checked else "not checked"
        listing.row(mark, (one.path, terminal.bold), terminal.size(one.size), (checked, terminal.dim), one.address)
        if one.problem:
            listing.under(f"    {one.problem}")
    listing.show()
    terminal.say_left(found, len(shown))
    if found and not wrong:
        terminal.next_step("everyshelf in-place check")


def _of(wrong: list[InPlace]) -> str:
    return f"; {len(wrong)} changed or cannot be read" if wrong else ""


@in_place.command("check")
@click.argument("folder", default="", shell_complete=completing.artifacts)
@at_option
@click.option("--fingerprint", is_flag=True, help="Read all bytes too, and keep or compare their SHA-256.")
@shelf_options
def check(
    folder: str, ref: str | None, fingerprint: bool, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Check whether the data has changed since it was registered.

    The exit code is 1 where something is not.
    """
    shelf, _ = open_shelf(shelf_key, address)
    with terminal.progress_bar("Checking") as progress:
        started = shelf.check_in_place(ref or "", folder, fingerprint=fingerprint)
        job = shelf.wait(started, lambda job: progress(job.done, job.total, job.note))
    done = job.result or {}
    if as_json:
        terminal.print_json(done)
    else:
        _say_checked(done)
    if done["problems"]:
        raise SystemExit(1)


def _say_checked(done: dict[str, Any]) -> None:
    wrong = len(done["problems"]) + done["more"]
    read = f"; {terminal.size(done['bytes'])} read" if done["bytes"] else ""
    checked = terminal.count(done["checked"], "artifact")
    said = f"{wrong} of {checked} changed or cannot be read" if wrong else f"{checked} unchanged"
    terminal.say(terminal.bold(said) + f"{read}.")
    for path, why in done["problems"].items():
        terminal.say(f"  ‖ {terminal.bold(path)}: {why}")
    if done["more"]:
        terminal.say(f"  ‖ {done['more']} more")


@in_place.command("credentials")
@shelf_options
def credentials_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the buckets and servers that the shelf has credentials for; secrets are not shown."""
    shelf, _ = open_shelf(shelf_key, address)
    _say_keys(shelf.in_place_keys(), as_json)


@in_place.command("set-credentials")
@click.argument("where", metavar="ADDRESS")
@click.option("--key-id", default="", help="Id of the key, for a bucket.")
@_endpoint_option
@shelf_options
def credentials_set(
    where: str, key_id: str, endpoint: str, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Set the credentials for the bucket or server of ADDRESS: a key for a bucket, a token for a server.

    The secret is asked for, or taken from EVERYSHELF_SECRET; the service keeps it encrypted and never shows it.
    """
    shelf, _ = open_shelf(shelf_key, address)
    secret = os.environ.get("EVERYSHELF_SECRET") or click.prompt("Secret", hide_input=True, err=True)
    _say_keys(shelf.set_in_place_keys(where, secret, key_id=key_id, endpoint=endpoint), as_json)


@in_place.command("remove-credentials")
@click.argument("place")
@shelf_options
def credentials_remove(place: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Remove the credentials for PLACE, written as it is listed."""
    shelf, _ = open_shelf(shelf_key, address)
    _say_keys(shelf.remove_in_place_keys(place), as_json)


def _say_keys(found: list[InPlaceKeys], as_json: bool) -> None:
    if as_json:
        terminal.print_json([asdict(one) for one in found])
        return
    terminal.say(terminal.bold(f"Credentials for {terminal.count(len(found), 'place')}."))
    listing = terminal.Listing((terminal.Column(2, text=True), terminal.Column(40), terminal.Column(60)))
    for one in found:
        who = f"{one.set_by}, {terminal.when(one.time)}"
        listing.row((one.place, terminal.bold), one.key_id or "a token", (who, terminal.dim))
    listing.show()

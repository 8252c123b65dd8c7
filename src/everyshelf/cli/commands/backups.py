"""``backup``: of a whole installation; on its machine with ``--data``, or asked of a service that runs."""

from __future__ import annotations

import os
import shlex
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec.structs import asdict

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, json_option
from everyshelf.cli.session import open_client

if TYPE_CHECKING:
    from everyshelf.core.content.place import Readable
    from everyshelf.storage.bucket import Bucket

_PLACE = "FOLDER|s3://BUCKET/PREFIX"
_FOLDER = click.argument("folder", metavar=_PLACE)
_ENDPOINT = click.option("--endpoint", default="", help="Address of the S3-compatible service that has the bucket.")
_DATA = click.option(
    "--data",
    type=click.Path(file_okay=False, exists=True, path_type=Path),
    help="On the machine of the service: its data folder. Needs no account, and works while it runs.",
)
_MOMENT = click.option("--moment", default="", metavar="TIME", help="Which one, as listed; the newest if left out.")
_KEYS = click.Path(file_okay=False, path_type=Path)


@click.group("backup", cls=Commands)
def backup() -> None:
    """Make, list, check and restore backups of a whole installation, while it runs.

    A folder or a bucket of backups has many moments and every byte only once. The keys of secrets are kept apart.
    """


@backup.command("make")
@click.argument("folder", metavar=_PLACE, required=False)
@_ENDPOINT
@_DATA
@click.option("--keys", type=_KEYS, help="With --data: copy the keys to this folder, apart from the backup.")
@click.option("--keep", type=click.IntRange(1), help="With --data: drop all but this many newest moments afterwards.")
@click.option("--reread", is_flag=True, help="With --data: read earlier copies again, and replace what is damaged.")
@click.option("--address", help="Address of the service.")
@json_option
def make(
    folder: str | None,
    endpoint: str,
    data: Path | None,
    keys: Path | None,
    keep: int | None,
    reread: bool,
    address: str | None,
    as_json: bool,
) -> None:
    """Back up the installation to a folder or a bucket (with --data), or have the service do it as it is set up to."""
    if data is None:
        if folder is not None or keys or keep or reread:
            raise click.UsageError("say of which installation: --data FOLDER, on the machine of the service")
        client = open_client(address)
        with terminal.progress_bar("Backing up") as progress:
            made = client.wait(client.make_backup(), lambda job: progress(job.done, job.total, job.note)).result
        told: dict[str, Any] = made or {}
        dropped: list[str] = told.get("dropped", [])
    else:
        if folder is None:
            raise click.UsageError("name the folder or the bucket to write to")
        told, dropped = _made(data, folder, endpoint, keys, keep, reread)
    if as_json:
        terminal.print_json({**told, "dropped": dropped})
        return
    added, size = terminal.size(told["added"]), terminal.size(told["size"])
    terminal.say(terminal.bold(f"Backed up as {told['name']}") + f": {size} to restore, {added} added, read back.")
    if dropped:
        terminal.say(f"  dropped {terminal.count(len(dropped), 'older moment')}")
    for line in told["damage"]:
        terminal.say(f"  ‖ damaged before it was copied: {line}")
    if keys:
        terminal.say(f"  keys in {keys}; keep them apart from the backup")
    if folder is not None:
        terminal.next_step(shlex.join(["everyshelf", "backup", "check", folder, *_at(endpoint)]))


def _at(endpoint: str) -> list[str]:
    return ["--endpoint", endpoint] if endpoint else []


def _made(
    data: Path, folder: str, endpoint: str, keys: Path | None, keep: int | None, reread: bool
) -> tuple[dict[str, Any], list[str]]:
    from everyshelf.service.backups.layout import told_of
    from everyshelf.service.backups.making import make_backup
    from everyshelf.service.backups.opening import open_backups
    from everyshelf.service.backups.retention import keep_newest

    key_file = _config(data).key_file
    with terminal.progress_bar("Backing up") as progress:
        given = (key_file, keys) if keys else None
        moment = make_backup(data, folder, progress, endpoint=endpoint, keys=given, reread=reread, sign_with=key_file)
    dropped = keep_newest(open_backups(folder, endpoint), keep) if keep else []
    return told_of(moment), dropped


def _config(data: Path) -> Any:
    os.environ["EVERYSHELF_DATA"] = str(data.absolute())
    from everyshelf.service.base.config import get_config

    return get_config()


@backup.command("list")
@click.argument("folder", metavar=_PLACE, required=False)
@_ENDPOINT
@click.option("--address", help="Address of the service.")
@json_option
def listed(folder: str | None, endpoint: str, address: str | None, as_json: bool) -> None:
    """List the moments in a folder or a bucket, or those of the service."""
    if folder is None:
        found = open_client(address).backups()
        moments, schedule = [asdict(one) for one in found.moments], asdict(found)
    else:
        from everyshelf.service.backups.layout import told_of
        from everyshelf.service.backups.opening import open_backups

        kept = open_backups(folder, endpoint)
        moments, schedule = [told_of(one) for one in kept.all()], {"unreadable": kept.unreadable()}
    if as_json:
        terminal.print_json({**schedule, "moments": moments})
        return
    where = f" in {folder}" if folder else f" in {schedule['folder']}" if schedule.get("folder") else ""
    terminal.say(terminal.bold(terminal.count(len(moments), "moment")) + f"{where}.")
    listing = terminal.Listing((terminal.Column(2), terminal.Column(22), terminal.Column(40), terminal.Column(58)))
    for one in reversed(moments):
        damaged = f"{terminal.count(len(one['damage']), 'damaged range')}" if one["damage"] else ""
        row = (one["name"], terminal.when(one["made"]), f"{terminal.size(one['size'])} to restore", damaged)
        listing.row(*row[:2], row[2], row[3] or f"{terminal.size(one['added'])} added")
    listing.show()
    for name in schedule["unreadable"]:
        terminal.say(f"  ‖ {name} cannot be read; its bytes are kept")
    if schedule.get("problem"):
        terminal.say(f"  ‖ the backups cannot be listed: {schedule['problem']}")
    if folder is None:
        terminal.say(_plan(schedule))


def _plan(schedule: dict[str, Any]) -> str:
    if not schedule["folder"]:
        return "  None is made by itself: set EVERYSHELF_BACKUP to a folder or a bucket and start the service again."
    hours = schedule["hours"]
    if not hours:
        return f"  Only when asked; the newest {schedule['keep']} are kept."
    return f"  Every {terminal.count(hours, 'hour')}; the newest {schedule['keep']} are kept."


def segments_of_backups(bucket: Bucket) -> Readable | None:
    """The segments of the backups in a bucket; None where what lies there is not backups."""
    from everyshelf.core.errors import MissingError
    from everyshelf.service.backups.in_bucket import BackupBucket, BackupMirror

    try:
        return BackupMirror(BackupBucket.open(bucket))
    except MissingError:
        return None


@backup.command("check")
@_FOLDER
@_ENDPOINT
@_MOMENT
@json_option
def check(folder: str, endpoint: str, moment: str, as_json: bool) -> None:
    """Read every byte of a moment, and see that all the records name is there."""
    from everyshelf.service.backups.checking import check_moment
    from everyshelf.service.backups.opening import open_backups

    found = open_backups(folder, endpoint)
    with terminal.progress_bar("Reading") as progress:
        checked = check_moment(found, found.newest(moment), progress)
    if as_json:
        terminal.print_json(checked)
    else:
        read = f"{terminal.size(checked.bytes)} in {terminal.count(checked.segments, 'segment')}"
        terminal.say(
            terminal.bold(f"Read {checked.moment}")
            + f": {read}, {terminal.count(checked.contents, 'content')} named by the records."
        )
        for line in checked.problems:
            terminal.say(f"  ‖ {line}")
        if not checked.problems:
            terminal.say("  Nothing is missing or damaged.")
        else:
            terminal.next_step(
                shlex.join(["everyshelf", "backup", "make", folder, *_at(endpoint), "--data", "FOLDER", "--reread"])
            )
    if checked.problems:
        raise SystemExit(1)


def _ask_if_unsigned(found: Any, chosen: Any, keys: Path | None, key_file: Path) -> None:
    """Return if the moment is signed with a key that was given, or if the user agrees to restore it."""
    from everyshelf.service.backups.layout import is_signed

    known = [path for path in (keys / "secrets.key" if keys else None, key_file) if path is not None and path.is_file()]
    if any(is_signed(found, chosen, path.read_bytes().strip()) for path in known):
        return
    why = "is not signed with that key" if known else "cannot be checked: the key of its installation was not given"
    said = f"{chosen.name} {why}. Whoever made it decides about accounts, tokens and links of what is restored."
    if not sys.stdin.isatty():
        raise click.ClickException(f"{said} To restore it all the same: --unsigned; with its key: --keys FOLDER")
    click.confirm(f"{said} Restore it?", abort=True, err=True)


@backup.command("restore")
@_FOLDER
@_ENDPOINT
@click.option(
    "--into", required=True, type=click.Path(file_okay=False, path_type=Path), help="New data folder to write."
)
@_MOMENT
@click.option("--shelf", "shelf_key", metavar="KEY", help="Only this shelf, with the people who are named on it.")
@click.option("--keys", type=_KEYS, help="The folder of the keys, as --keys of make wrote it.")
@click.option("--unsigned", is_flag=True, help="Restore it although it is not known who made it.")
@json_option
def restore(
    folder: str,
    endpoint: str,
    into: Path,
    moment: str,
    shelf_key: str | None,
    keys: Path | None,
    unsigned: bool,
    as_json: bool,
) -> None:
    """Write a new data folder from a moment.

    What is served from it acts as the installation did: Git links are followed and webhooks told. Environments whose
    places lay in the data folder are not part of a backup; promote to them again. Settings are written beside, as
    everyshelf.toml.from-backup.

    A backup is signed with the key of its installation. Without that key (--keys), or for one that is not signed with
    it, you are asked first.
    """
    from everyshelf.service.backups.layout import told_of
    from everyshelf.service.backups.opening import open_backups
    from everyshelf.service.backups.restoring import restore_moment
    from everyshelf.service.keeping.one_shelf import restore_shelf

    found = open_backups(folder, endpoint)
    chosen = found.newest(moment)
    key_file = into.absolute().with_name(f"{into.name}.key")
    given = (keys, key_file) if keys else None
    if not unsigned:
        _ask_if_unsigned(found, chosen, keys, key_file)
    with terminal.progress_bar("Restoring") as progress:
        if shelf_key is None:
            restore_moment(found, chosen, into.absolute(), progress, keys=given)
        else:
            restore_shelf(found, chosen, shelf_key, into.absolute(), progress, keys=given)
    if as_json:
        terminal.print_json({**told_of(chosen), "into": into, "shelf": shelf_key, "keys": bool(keys)})
        return
    if shelf_key is None:
        terminal.say(terminal.bold(f"Restored {chosen.name} into {into}") + f": {terminal.size(chosen.size)}.")
    else:
        terminal.say(terminal.bold(f"Restored the shelf {shelf_key} of {chosen.name} into {into}") + ".")
        terminal.say("  Tokens are not part of it: people sign in with their passwords and make new ones.")
    if not keys:
        terminal.say("  Without its keys (--keys FOLDER) secrets of environments have to be set again.")
    terminal.next_step(f"everyshelf serve --data {into}")

"""``storage``: what the store of an installation holds, and tidying it."""

from __future__ import annotations

import contextlib
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec.structs import asdict

from everyshelf.cli import terminal
from everyshelf.cli.options import Commands, json_option
from everyshelf.cli.session import open_client

if TYPE_CHECKING:
    from everyshelf.client.models import Storage
    from everyshelf.core.content.place import Readable

_FEW = 20


@click.group("storage", cls=Commands)
def storage() -> None:
    """Show what an installation holds, where it lives, and free room that nothing needs.

    For those who run the installation.
    """


@storage.command("show")
@click.option("--address", help="Address of the service.")
@json_option
def show(address: str | None, as_json: bool) -> None:
    """Show how much all versions take, and how much tidying has saved."""
    found = open_client(address).storage()
    if as_json:
        terminal.print_json(asdict(found))
        return
    versions = terminal.count(found.versions, "version")
    terminal.say(terminal.bold(f"{versions} of {terminal.size(found.versions_bytes)}") + " in all.")
    terminal.labelled("take", terminal.size(found.stored))
    if found.deltas:
        pieces = terminal.count(found.deltas, "piece")
        terminal.labelled("saved", f"{terminal.size(found.saved)}: {pieces} kept as what they change of another")
    if found.unreached:
        contents = terminal.count(found.unreached, "content")
        frees = f"; freed from {terminal.when(found.frees)} on" if found.frees else ""
        terminal.labelled("unused", f"{terminal.size(found.unreached_bytes)}: {contents} sent and never used{frees}")
    _say_home(found)
    terminal.labelled("tidied", _schedule(found.hours, terminal.when(found.tidied) if found.tidied else ""))
    if found.waiting:
        terminal.labelled("new", f"{terminal.size(found.waiting)} of versions since")
        terminal.next_step("everyshelf storage tidy")


def _say_home(found: Storage) -> None:
    several = len(found.stores) > 1
    if not several and not found.home and not found.to_move:
        return
    if several:
        _list_stores(found)
    else:
        lives = f"in {found.home}: {terminal.size(found.at_home)}" if found.home else "in the data folder"
        terminal.labelled("live", lives)
        if found.to_move:
            terminal.labelled("to move", terminal.size(found.to_move))
    if found.moving is not None and found.moving.problem:
        terminal.say(f"  ‖ the last run failed: {found.moving.problem['detail']}")
    if found.fetched:
        terminal.labelled("kept here", f"{terminal.size(found.fetched)} of what was read there lately")


def _list_stores(found: Storage) -> None:
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(terminal.KIND, path=True), terminal.Column(terminal.DETAIL))
    )
    for one in found.stores:
        held = f"{terminal.count(one.shelves, 'shelf', 'shelves')}, {terminal.size(one.at_home)}"
        to_move = f", {terminal.size(one.to_move)} to move" if one.to_move else ""
        listing.row((one.name, terminal.bold), one.home or "the data folder", held + to_move)
    terminal.say(terminal.bold(terminal.count(len(found.stores), "store")) + ".")
    listing.show()


def _schedule(hours: int, last: str) -> str:
    every = "only when asked" if not hours else f"every {'hour' if hours == 1 else terminal.count(hours, 'hour')}"
    return f"{last or 'not yet'}; {every}"


@storage.command("unused")
@click.option("--limit", type=click.IntRange(1), help="Number of contents; default: 20, in a pipe all.")
@click.option("--address", help="Address of the service.")
@json_option
def unused(limit: int | None, address: str | None, as_json: bool) -> None:
    """List what was sent and never used, and when each is freed. Nothing is removed by this."""
    found = list(open_client(address).unused_contents())
    if as_json:
        terminal.print_json([asdict(one) for one in found])
        return
    if not found:
        terminal.say("All that was sent is used.")
        return
    shown = found[: limit or terminal.most(_FEW)]
    wide = max(len(one.shelf) for one in shown)
    for one in shown:
        size, frees = terminal.size(one.size), terminal.when(one.frees)
        terminal.say(f"  {one.content[:12]}  {size:>9}  {one.shelf:<{wide}}  freed from {frees} on")
    terminal.say_left(found, len(shown))
    terminal.say(f"{terminal.count(len(found), 'content')} of {terminal.size(sum(one.size for one in found))} in all.")


@storage.command("tidy")
@click.option("--address", help="Address of the service.")
@json_option
def tidy(address: str | None, as_json: bool) -> None:
    """Keep new versions as what they change, and free what is not needed any more."""
    client = open_client(address)
    with terminal.progress_bar("Tidying") as progress:
        job = client.wait(client.tidy_storage(), lambda job: progress(job.done, job.total, job.note))
    found = job.result or {}
    if as_json:
        terminal.print_json(found)
        return
    pieces = terminal.count(found["deltas"], "piece")
    terminal.say(terminal.bold("Tidied") + f": {pieces} kept as what they change of another.")
    if found["contents"]:
        terminal.say(f"  {terminal.count(found['contents'], 'content')} sent and never used let go of")
    if found["removed"]:
        terminal.say(f"  {terminal.count(found['removed'], 'piece')} that nothing needs removed")
    if found["condemned"]:
        pieces = terminal.count(found["condemned"], "piece")
        terminal.say(f"  {pieces} that nothing needs will be removed by the next run")
    segments = terminal.count(found["segments"], "segment")
    if found["segments"]:
        before, after = terminal.size(found["before"]), terminal.size(found["after"])
        terminal.say(f"  {segments} rewritten: {before} before, {after} now")
    if found["held_back"]:
        terminal.say(f"  ‖ {found['held_back']}")
    if found["saved"] and not found["segments"]:
        terminal.say(f"  {terminal.size(found['saved'])} are freed when the segments that hold them are rewritten")


_PLACE = "folder|/FOLDER|s3://BUCKET/PREFIX"


@storage.command("make")
@click.argument("name")
@click.argument("to", metavar=_PLACE)
@click.option("--endpoint", default="", help="Address of the S3-compatible service that has the bucket.")
@click.option("--take-over", is_flag=True, help="Use the segments of an installation that is gone and left them there.")
@click.option("--address", help="Address of the service.")
@json_option
def make(name: str, to: str, endpoint: str, take_over: bool, address: str | None, as_json: bool) -> None:
    """Make a store where the bytes of shelves can live, apart from those of other shelves.

    The place is tried first: what is written there must be given back as it was. Whoever makes a shelf chooses among
    the stores; owners move a shelf from one to another.
    """
    made = open_client(address).make_store(name, to, endpoint=endpoint, take_over=take_over)
    if as_json:
        terminal.print_json(made)
        return
    lives = made.home or "the data folder"
    terminal.say(terminal.bold(f"Made the store {name}") + f": versions of its shelves live in {lives}.")
    terminal.next_step(f"everyshelf shelf make NAME --store {name}")


@storage.command("remove")
@click.argument("name")
@click.option("--address", help="Address of the service.")
@json_option
def remove(name: str, address: str | None, as_json: bool) -> None:
    """Remove a store in which nothing lives any more."""
    open_client(address).remove_store(name)
    if as_json:
        terminal.print_json({"removed": name})
        return
    terminal.say(terminal.bold(f"Removed the store {name}") + ".")


@storage.command("move")
@click.argument("to", metavar=_PLACE)
@click.option("--store", default="main", show_default=True, help="The store whose versions are moved.")
@click.option("--endpoint", default="", help="Address of the S3-compatible service that has the bucket.")
@click.option("--take-over", is_flag=True, help="Use the segments of an installation that is gone and left them there.")
@click.option("--address", help="Address of the service.")
@json_option
def move(to: str, store: str, endpoint: str, take_over: bool, address: str | None, as_json: bool) -> None:
    """Let versions live in a bucket, in another folder, or in the data folder (folder), and move them there.

    People go on working meanwhile. Each segment is read back before what lay elsewhere is removed. What is committed
    later follows within minutes. Credentials are those that the service was started with (AWS_ACCESS_KEY_ID).
    """
    client = open_client(address)
    with terminal.progress_bar("Moving") as progress:
        started = client.move_storage(to, store=store, endpoint=endpoint, take_over=take_over)
        job = client.wait(started, lambda job: progress(job.done, job.total, job.note))
    found = job.result or {}
    if as_json:
        terminal.print_json(found)
        return
    segments = terminal.count(found["segments"], "segment")
    terminal.say(terminal.bold(f"Moved {segments}") + f": {terminal.size(found['bytes'])}, read back there.")
    if found["cleared"]:
        terminal.say(f"  {terminal.count(found['cleared'], 'object')} that belonged to no segment removed")
    if found["held_back"]:
        terminal.say(f"  ‖ {found['held_back']}")
    terminal.next_step("everyshelf storage show")


@storage.command("heal")
@click.argument("source", metavar="FOLDER|FILE|s3://BUCKET/PREFIX")
@click.option("--endpoint", default="", help="Address of the S3-compatible service that has the bucket.")
@click.option(
    "--data",
    required=True,
    type=click.Path(file_okay=False, exists=True, path_type=Path),
    help="On the machine of the service: its data folder. It may run meanwhile.",
)
@json_option
def heal(source: str, endpoint: str, data: Path, as_json: bool) -> None:
    """Replace what is damaged or missing, from a backup, a copy of the data folder or of its bucket, or a parcel.

    Everything is read here and there. What the source has whole and this installation has not is taken over; nothing in
    the source is written. Segments with damaged parts are rewritten without them once all that was there reads back.
    """
    from everyshelf.core.content.healing import heal as heal_store
    from everyshelf.core.content.store import ContentStore
    from everyshelf.storage.home import open_place

    _need_segments(data, "Name the data folder of a service.")
    with _mirror(source, endpoint) as mirror:
        store = ContentStore(open_place(data))
        try:
            with terminal.progress_bar("Reading") as progress, store.segments.place.alone():
                done = heal_store(store, mirror, lambda part, total: progress(part, total, ""))
        finally:
            store.close()
    if as_json:
        terminal.print_json(done)
        return
    pieces = terminal.count(done.brought_back, "piece")
    terminal.say(terminal.bold(f"Replaced {pieces}") + f" of {done.looked_at} that were looked at.")
    if done.rewritten:
        terminal.say(f"  {terminal.count(done.rewritten, 'segment')} rewritten without the damage")
    if done.damaged_there:
        terminal.say(f"  ‖ {terminal.count(done.damaged_there, 'piece')} damaged there, too")
    terminal.next_step("everyshelf verify")


@contextlib.contextmanager
def _mirror(source: str, endpoint: str) -> Iterator[Readable]:
    if Path(source).is_file():
        with _of_parcel(Path(source)) as place:
            yield place
    else:
        yield _segments(source, endpoint)


@contextlib.contextmanager
def _of_parcel(parcel: Path) -> Iterator[Readable]:
    """The contents of a parcel as segments: cut as here, their pieces have the same ids."""
    from everyshelf.core.content.place import FolderPlace
    from everyshelf.core.content.store import ContentStore
    from everyshelf.core.reading.worker import Worker

    with tempfile.TemporaryDirectory(prefix="everyshelf-heal-") as folder:
        files, segments = Path(folder, "files"), Path(folder, "segments")
        files.mkdir()
        worker = Worker()
        try:
            worker.unpack(parcel, files, {})
        finally:
            worker.close()
        store = ContentStore(segments)
        for file in sorted(one for one in files.rglob("*") if one.is_file()):
            with file.open("rb") as opened:
                store.put_stream(iter(lambda opened=opened: opened.read(1 << 20), b""))  # type: ignore[misc]
        store.close()
        yield FolderPlace(segments)


def _segments(source: str, endpoint: str) -> Readable:
    from everyshelf.cli.commands.backups import segments_of_backups
    from everyshelf.storage.addresses import parse_bucket
    from everyshelf.storage.bucket import Bucket
    from everyshelf.storage.home import open_place
    from everyshelf.storage.mirror import BucketMirror

    if source.startswith("s3://"):
        bucket = Bucket(parse_bucket(source, endpoint))
        return segments_of_backups(bucket) or BucketMirror(bucket)
    _need_segments(Path(source), "Name a folder that backup make wrote, or a data folder.")
    return open_place(Path(source))


def _need_segments(folder: Path, hint: str) -> None:
    from everyshelf.core.errors import MissingError

    if not (folder / "segments").is_dir():
        raise MissingError(f"{folder} holds no segments", code="storage.source", hint=hint)

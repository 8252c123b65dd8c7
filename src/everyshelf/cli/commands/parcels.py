"""``parcel``: artifacts in one portable file."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import Commands, as_whole, shelf_options, whole_option
from everyshelf.cli.session import open_shelf
from everyshelf.core.parcel import Parcel

_MOST = 200
_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)
_TARGET = click.Path(dir_okay=False, path_type=Path)


@click.group("parcel", cls=Commands)
def parcel() -> None:
    """Pack artifacts into one portable file; list, verify or unpack it."""


@parcel.command("pack")
@click.argument("ref", shell_complete=completing.refs)
@click.option(
    "--output", type=click.Path(dir_okay=False, path_type=Path), help="File to write; default: SHELF-REF.parcel.zip."
)
@click.option("--only", multiple=True, metavar="PATH", help="Only this artifact or folder; may be repeated.")
@click.option("--dependencies", is_flag=True, help="Also pack the artifacts the selection depends on.")
@whole_option
@shelf_options
def parcel_pack(
    ref: str,
    whole: bool,
    output: Path | None,
    only: tuple[str, ...],
    dependencies: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Pack the artifacts at REF (tag:NAME or any other), or a selection of them, into one file.

    Of a tag with a selection, what it selects is packed.
    """
    shelf, _ = open_shelf(shelf_key, address)
    target = output or Path(f"{shelf.key}-{ref.removeprefix('tag:').replace('/', '-').replace(':', '-')}.parcel.zip")
    shelf.pack(as_whole(shelf, ref, whole=whole), target, only=list(only), dependencies=dependencies)
    found = Parcel(target)
    count, size = len(found.digests), target.stat().st_size
    found.close()
    if as_json:
        terminal.print_json({"file": str(target), "artifacts": count, "size": size})
        return
    terminal.say(
        terminal.bold(f"{terminal.count(count, 'artifact')} packed") + f" into {target}, {terminal.size(size)}."
    )
    terminal.next_step(f"everyshelf parcel show {shlex.quote(str(target))}")


@parcel.command("show")
@click.argument("file", type=_FILE)
@click.option("--json", "as_json", is_flag=True, help="One JSON document.")
def parcel_show(file: Path, as_json: bool) -> None:
    """List the artifacts in the parcel FILE. Works without a service."""
    found = Parcel(file)
    artifacts = found.artifacts()
    found.close()
    if as_json:
        terminal.print_json({**found.about, "name": found.name, "files": artifacts})
        return
    about = found.about
    source = f" from {about['shelf']}, {about.get('ref')}" if about.get("shelf") else ""
    terminal.say(terminal.bold(f"{terminal.count(len(artifacts), 'artifact')} in {found.name}") + f"{source}.")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND, path=True),
            terminal.Column(60),
            terminal.Column(66, right=True),
            terminal.Column(76, wrap=True),
        )
    )
    for a in artifacts[: terminal.most(_MOST)]:
        version = f"v{a['version']}" if a.get("version") else ""
        bound = f"needs {', '.join(a['bindings'])}" if a.get("bindings") else ""
        listing.row(a["kind"], (a["path"], terminal.bold), version, terminal.size(a["size"]), (bound, terminal.dim))
    listing.show()
    terminal.say_left(artifacts, _MOST)
    terminal.next_step(f"everyshelf parcel verify {shlex.quote(str(file))}")


@parcel.command("verify")
@click.argument("file", type=_FILE)
@click.option("--json", "as_json", is_flag=True, help="One JSON document.")
def parcel_verify(file: Path, as_json: bool) -> None:
    """Check every file of the parcel FILE against its checksums; needs no service."""
    found = Parcel(file)
    count = found.verify()
    found.close()
    if as_json:
        terminal.print_json({"file": str(file), "artifacts": count, "verified": True})
    else:
        terminal.say(
            terminal.bold(f"{file} is intact") + f": {terminal.count(count, 'artifact')}, all checksums match."
        )


@parcel.command("unpack")
@click.argument("file", type=_FILE)
@click.option(
    "--output",
    "into",
    type=click.Path(file_okay=False, path_type=Path),
    help="Write to this new folder, not to a shelf.",
)
@click.option("--branch", default="main", show_default=True, help="Branch to commit to.")
@click.option("--summary", default="", help="Commit summary.")
@shelf_options
def parcel_unpack(
    file: Path,
    into: Path | None,
    branch: str,
    summary: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Verify the parcel FILE, then commit its artifacts to a shelf or write them to a new folder."""
    found = Parcel(file)
    try:
        if into is not None:
            count = found.unpack(into)
            if as_json:
                terminal.print_json({"folder": str(into), "artifacts": count})
            else:
                terminal.say(terminal.bold(f"{terminal.count(count, 'artifact')} unpacked") + f" into {into}.")
            return
        from everyshelf.desk.parcels import unpack_onto_shelf

        shelf, _ = open_shelf(shelf_key, address)
        with terminal.progress_bar("Unpacking") as progress:
            made = unpack_onto_shelf(found, shelf, branch, summary or f"Parcel {found.name}", progress)
        if as_json:
            terminal.print_json(made)
            return
        said = f"{terminal.count(len(found.digests), 'artifact')} of {found.name} committed"
        terminal.say(terminal.bold(said) + f" to {branch} as {made.commit[:8]}.")
        terminal.next_step("everyshelf history --limit 3")
    finally:
        found.close()

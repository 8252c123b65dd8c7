"""``unfold`` and ``fold``: one file as readable parts, and back; no service needed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.options import json_option

_SHOWN = 40


@click.command("unfold")
@click.argument("file", type=click.Path(exists=True, dir_okay=False, path_type=Path))
@click.option("--output", "into", type=click.Path(file_okay=False, path_type=Path), help="Folder for the parts.")
@click.option("--kind", help="Read FILE as this kind.")
@json_option
def unfold(file: Path, into: Path | None, kind: str | None, as_json: bool) -> None:
    """Split FILE (an app, tests, a notebook, any zip) into a folder of readable parts.

    The folder is FILE.unfolded unless --output names another. Parts that no longer exist
    are removed from it.
    """
    from everyshelf.cli.commands.files import checked_kind
    from everyshelf.core import unfolding

    folder = into or file.with_name(file.name + unfolding.FOLDER_SUFFIX)
    unfolded = unfolding.unfold(file.name, file.read_bytes(), kind=checked_kind(kind))
    stale = unfolding.write_folder(folder, unfolded)
    if as_json:
        terminal.print_json(
            {"folder": str(folder), "files": sorted(unfolded.files), "removed": stale, "notes": unfolded.notes}
        )
        return
    _print_unfolded(file, folder, {p: len(d) for p, d in unfolded.files.items()}, stale, unfolded.notes)


def _print_unfolded(file: Path, folder: Path, sizes: dict[str, int], stale: list[str], notes: list[str]) -> None:
    import shlex

    said = f"{file.name} unfolded into {terminal.count(len(sizes), 'file')} in {folder}."
    terminal.say(terminal.bold(said))
    for path, size in sorted(sizes.items())[: terminal.most(_SHOWN)]:
        terminal.say(terminal.line((2, path), (76, terminal.dim(terminal.size(size)))))
    terminal.say_left(sizes, _SHOWN)
    for path in stale[: terminal.most(_SHOWN)]:
        terminal.say(terminal.line((2, f"{terminal.tone('removed', terminal.GLYPHS['removed'])} {path}")))
    for note in notes:
        terminal.say(terminal.dim(f"  {note}"))
    terminal.next_step(f"everyshelf fold {shlex.quote(str(folder))}")


@click.command("fold")
@click.argument("folder", type=click.Path(exists=True, file_okay=False, path_type=Path))
@click.option(
    "--output", type=click.Path(dir_okay=False, path_type=Path), help="File to write; default: beside the folder."
)
@json_option
def fold(folder: Path, output: Path | None, as_json: bool) -> None:
    """Rebuild the original file from FOLDER. Unedited parts are restored byte for byte."""
    from everyshelf.core import unfolding

    folded = unfolding.fold(unfolding.read_folder(folder))
    target = output or folder.absolute().with_name(folded.name)
    told: dict[str, Any] = {"file": str(target), "size": len(folded.data), "notes": list(folded.notes)}
    told["changed"] = not target.is_file() or target.read_bytes() != folded.data
    part = target.with_name(f".{target.name[:80]}.part")
    try:
        part.write_bytes(folded.data)
        part.replace(target)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise click.ClickException(f"{target} cannot be written: {error.strerror or error}") from error
    if as_json:
        terminal.print_json(told)
        return
    word = "" if told["changed"] else ", the same as before"
    terminal.say(terminal.bold(f"Folded into {target.name}, {terminal.size(len(folded.data))}{word}."))
    for note in folded.notes:
        terminal.say(terminal.dim(f"  {note}"))

"""``undo``: one commit undone, and what came later kept."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import shelf_options
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.core.answers.commits import Undoing
    from everyshelf.core.answers.merges import ArtifactMerge, ConflictAnswer

_MOST = 20


@click.command("undo")
@click.argument("commit", metavar="COMMIT")
@click.option("--into", "branch", help="Branch to undo it on; default: the desk's.", shell_complete=completing.branches)
@click.option("--show", is_flag=True, help="Only show what it would do.")
@click.option(
    "--prefer",
    type=click.Choice(["target", "source"]),
    help="For conflicts: keep what came later (target), or what was before the commit (source).",
)
@click.option("--summary", default="", help="Commit summary.")
@shelf_options
def undo(
    commit: str,
    branch: str | None,
    show: bool,
    prefer: str | None,
    summary: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Undo what COMMIT changed, as a new commit; what came later stays.

    COMMIT is the beginning of its id. Of an artifact that was changed again since, only what COMMIT did is undone;
    where both do not go together, a merge waits to be settled (exit code 3).
    """
    shelf, desk = open_shelf(shelf_key, address)
    into = branch or (desk.home.branch if desk else None) or shelf.info().main_branch
    uid = commit.removeprefix("commit:")
    look = shelf.undoing(uid, into)
    if show:
        if as_json:
            terminal.print_json(look)
        else:
            _print_look(look)
        return
    made = shelf.undo(look.commit, into, summary, prefer=prefer)
    taken = desk.take(shelf) if desk is not None and desk.home.branch == into else None
    if as_json:
        terminal.print_json({"commit": made.commit, "undoes": look.commit, "written": taken.written if taken else []})
        return
    terminal.say(terminal.bold(f"Undid {look.commit[:8]}") + f", as {made.commit[:8]} on {into}: {_counts(look)}.")


def _counts(look: Undoing) -> str:
    told = [f"{terminal.count(look.back_count, 'artifact')} back"] if look.back_count else []
    if look.combined_count:
        told.append(f"{look.combined_count} kept later changes")
    if look.already:
        told.append(f"{look.already} already as before")
    return ", ".join(told) or "settled"


def _where(artifact: ArtifactMerge, conflict: ConflictAnswer) -> str:
    return conflict.why if artifact.path in conflict.why else f"{artifact.path}: {conflict.why}"


def _print_look(look: Undoing) -> None:
    if look.open:
        head = f"{terminal.count(look.open_count, 'conflict')} to settle"
    else:
        head = f"{terminal.count(look.back_count + look.combined_count, 'artifact')} would change"
    terminal.say(terminal.bold(f"Undoing {look.commit[:8]} on {look.branch}: {head}") + ".")
    for words, paths, total in (
        ("back to before it", look.back, look.back_count),
        ("changed since; later changes stay", look.combined, look.combined_count),
    ):
        if paths:
            terminal.say(f"  {terminal.count(total, 'artifact')} {words}:")
            shown = paths[: terminal.most(_MOST)]
            for path in shown:
                terminal.say(f"    {path}")
            if total > len(shown):
                terminal.say(terminal.dim(f"    and {total - len(shown)} more"))
    if look.already:
        terminal.say(f"  {terminal.count(look.already, 'artifact')} already as before it.")
    for artifact in look.open:
        for conflict in artifact.conflicts:
            if conflict.decision is None:
                terminal.labelled(
                    terminal.tone("conflict", terminal.GLYPHS["conflict"]), _where(artifact, conflict), at=4
                )
    if not look.allowed:
        terminal.say(f"  You may not commit to {look.branch}: make a branch, undo it there, and open a proposal.")
    elif look.back_count or look.combined_count or look.open:
        terminal.next_step(f"everyshelf undo {look.commit[:8]} --into {look.branch}")

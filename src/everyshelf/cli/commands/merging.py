"""``merge-files``, which needs no service, and ``settle``."""

from __future__ import annotations

import json
import os
import shlex
import subprocess
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from msgspec import UNSET

from everyshelf.cli import completing, terminal
from everyshelf.cli.commands.files import checked_kind
from everyshelf.cli.errors import Unsettled
from everyshelf.cli.options import json_option, shelf_options
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient, WaitingMerge
    from everyshelf.core.answers.merges import ConflictAnswer, MergeAnswer
    from everyshelf.core.merge.model import Side
    from everyshelf.desk.desk import Desk

_FILE = click.Path(exists=True, dir_okay=False, readable=True, path_type=Path)
_SECONDS = 600.0
_LINE = 76
_SIDES = {"target": "target", "source": "source"}
PROGRAM = "EVERYSHELF_MERGE_PROGRAM"


@click.command("merge-files")
@click.argument("base", type=_FILE)
@click.argument("target", type=_FILE)
@click.argument("source", type=_FILE)
@click.option("--output", required=True, type=click.Path(dir_okay=False, path_type=Path), help="File for the result.")
@click.option("--prefer", type=click.Choice(["target", "source"]), help="For conflicts: keep this side.")
@click.option("--kind", help="Read all three files as this kind.")
@click.option("--rules", type=_FILE, help="A shelf.toml with the rules to use.")
@json_option
def merge_files(
    base: Path,
    target: Path,
    source: Path,
    output: Path,
    prefer: Side | None,
    kind: str | None,
    rules: Path | None,
    as_json: bool,
) -> None:
    """Merge SOURCE into TARGET by meaning; both come from BASE.

    With open conflicts the exit code is 3 and no file is written.
    """
    from everyshelf.core.kinds.rules import parse_rules
    from everyshelf.core.reading.worker import Worker

    text = rules.read_text(encoding="utf-8") if rules is not None else ""
    parse_rules(text, name=rules.name if rules else "shelf.toml")
    worker = Worker(deadline_seconds=_SECONDS)
    with tempfile.NamedTemporaryFile(dir=output.parent or Path(), prefix=".everyshelf-", delete=False) as waiting:
        half = Path(waiting.name)
    try:
        found = worker.merge(
            target.name, (base, target, source), half, rules=text, kind=checked_kind(kind), prefer=prefer
        )
        if found.merged:
            half.chmod(target.stat().st_mode & 0o777)
            half.replace(output)
    finally:
        worker.close()
        half.unlink(missing_ok=True)
    if as_json:
        terminal.print_json(found)
    else:
        _print_merged(found, (base, target, source), output)
    if not found.merged:
        raise Unsettled(f"{_open_count(found.conflicts)} to settle; {output} was not written")


def _open_count(conflicts: list[ConflictAnswer]) -> str:
    return terminal.count(sum(1 for c in conflicts if c.decision is None), "conflict")


def _print_merged(found: MergeAnswer, files: tuple[Path, Path, Path], output: Path) -> None:
    if found.merged:
        settled = f", {terminal.count(len(found.conflicts), 'conflict')} settled" if found.conflicts else ""
        changes = terminal.count(found.combined, "change")
        terminal.say(terminal.bold(f"Merged as {found.read_as}") + f": {changes} of both sides{settled} → {output}")
    else:
        terminal.say(terminal.bold(f"{_open_count(found.conflicts)} to settle") + f", read as {found.read_as}.")
    _print_conflicts(found.conflicts, _SIDES)
    for note in found.notes:
        terminal.say(terminal.dim(f"  {note}"))
    if not found.merged:
        named = shlex.join([*map(str, files), "--output", str(output)])
        terminal.next_step(f"everyshelf merge-files {named} --prefer target")


def _print_conflicts(conflicts: list[ConflictAnswer], names: dict[str, str], most: int = 40) -> None:
    wide = max(len(name) for name in names.values()) + 1
    for number, conflict in enumerate(conflicts[: terminal.most(most)], 1):
        decision = conflict.decision
        state, word = ("settled", "settled") if decision else ("conflict", "open")
        mark = terminal.tone(state, f"{terminal.GLYPHS[state]} {word}")
        terminal.labelled(terminal.line((0, mark), (16, str(number))), _capital(_headline(conflict)), at=22)
        for side in ("base", "target", "source"):
            value = getattr(conflict, side)
            if value is not UNSET and decision is None and _is_long(conflict):
                first, *more = terminal.wrapped_at(_said(value), 22 + wide) or [""]
                terminal.say(terminal.line((22, terminal.dim(names.get(side, side))), (22 + wide, first)))
                for rest in more:
                    terminal.say(" " * (22 + wide) + rest)
        taken = f", taken: {names.get(decision.take, decision.take)}" if decision else ""
        terminal.paragraph(terminal.dim(f"{conflict.id}{taken}"), indent=22)
    terminal.say_left(conflicts, most)


def _is_long(conflict: ConflictAnswer) -> bool:
    """True where the sentence does not fit, or does not say what the sides have."""
    sides = [_said(value) for value in (conflict.target, conflict.source) if value is not UNSET]
    return len(conflict.why) > _LINE or not all(said in conflict.why for said in sides)


def _headline(conflict: ConflictAnswer) -> str:
    if len(conflict.why) <= _LINE:
        return conflict.why
    return f"{conflict.type} “{conflict.label}”: {conflict.field or 'as a whole'}"


def _said(value: Any) -> str:
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return " ⏎ ".join(text.splitlines()) if "\n" in text else text


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


@click.command("settle")
@click.argument("artifact", required=False, shell_complete=completing.artifacts)
@click.argument("conflict", required=False)
@click.option("--take", type=click.Choice(["target", "source", "both"]), help="Side to keep, or both.")
@click.option("--value", help="Use this value instead: a text, or JSON.")
@click.option("--undo", is_flag=True, help="Undo this decision.")
@click.option("--program", is_flag=True, help=f"Open ARTIFACT in the program named in {PROGRAM}.")
@click.option("--finish", is_flag=True, help="Create the merge commit.")
@click.option("--summary", default="", help="With --finish: the commit summary.")
@click.option("--abandon", is_flag=True, help="Abandon the merge; both branches stay unchanged.")
@click.option("--merge", "merge_id", help="Which merge, if several are open.")
@shelf_options
def settle(
    artifact: str | None,
    conflict: str | None,
    take: str | None,
    value: str | None,
    undo: bool,
    program: bool,
    finish: bool,
    summary: str,
    abandon: bool,
    merge_id: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show an open merge, settle its conflicts, and finish it. CONFLICT is a number or id.

    Without CONFLICT, every open conflict of ARTIFACT is settled; without ARTIFACT, all of them.
    """
    shelf, desk = open_shelf(shelf_key, address)
    merge = _meant(shelf, merge_id)
    if merge is None:
        _print_waiting(shelf.merges(), as_json)
        return
    if abandon:
        shelf.abandon_merge(merge.id)
        _follow(desk, shelf, merge)
        _tell(as_json, {"abandoned": merge.id}, f"Merge {merge.id} is abandoned; both branches are unchanged.")
        return
    if program:
        merge = _by_program(shelf, merge, artifact)
    elif take or value is not None or undo:
        wanted = _decision(merge, artifact, conflict, take, value, undo=undo)
        merge = shelf.settle(merge.id, [wanted])
    if finish:
        made = shelf.finish_merge(merge.id, summary)
        _follow(desk, shelf, merge)
        _tell(
            as_json,
            {"commit": made.commit, "merge": merge.id},
            f"{terminal.bold(f'Merged {merge.source} into {merge.target}')} as {made.commit[:8]}: {made.summary}",
        )
        return
    _print_merge(merge, as_json)


def _follow(desk: Desk | None, shelf: ShelfClient, merge: WaitingMerge) -> None:
    """Update the desk that began a merge when it ends."""
    from everyshelf.desk.catching_up import catch_up
    from everyshelf.desk.merging import open_merge
    from everyshelf.desk.unsent import has_unsent

    known = open_merge(desk.root) if desk is not None else None
    if desk is None or known is None or known.merge != merge.id or has_unsent(desk.root):
        return
    found = catch_up(desk, shelf)
    for path in found.conflicts:
        click.echo(f"{path} was edited on this desk since and conflicts with it: everyshelf catch-up", err=True)


def _tell(as_json: bool, document: dict[str, Any], words: str) -> None:
    if as_json:
        terminal.print_json(document)
    else:
        terminal.say(words)


def _meant(shelf: ShelfClient, uid: str | None) -> WaitingMerge | None:
    """The merge that is named, or the only open one."""
    if uid is not None:
        return shelf.waiting_merge(uid)
    waiting = shelf.merges()
    return shelf.waiting_merge(waiting[0].id) if len(waiting) == 1 else None


def _decision(
    merge: WaitingMerge, artifact: str | None, conflict: str | None, take: str | None, value: str | None, *, undo: bool
) -> dict[str, Any]:
    said: dict[str, Any] = {"path": _path(merge, artifact), "conflict": None, "take": None if undo else take}
    if conflict is not None:
        said["conflict"] = _conflict(merge, said["path"], conflict)
    elif undo or value is not None:
        raise click.UsageError("name ARTIFACT and CONFLICT; see everyshelf settle")
    if value is not None and not undo:
        if take is not None:
            raise click.UsageError("--take and --value cannot go together")
        said |= {"take": "edited", "value": _value(merge, said["path"], said["conflict"], value)}
    return said


def _path(merge: WaitingMerge, artifact: str | None) -> str | None:
    if artifact is None:
        return None
    paths = [a.path for a in merge.artifacts]
    named = [p for p in paths if p == artifact or p.rpartition("/")[2] == artifact]
    if len(named) != 1:
        raise click.UsageError(f"{artifact!r} has nothing to settle; these have: {', '.join(paths) or 'nothing'}")
    return named[0]


def _conflict(merge: WaitingMerge, path: str | None, conflict: str) -> str:
    if path is None:
        raise click.UsageError("name the ARTIFACT of the conflict")
    conflicts = next(a.conflicts for a in merge.artifacts if a.path == path)
    if conflict.isascii() and conflict.isdigit() and len(conflict) < 10 and 0 < int(conflict) <= len(conflicts):
        return conflicts[int(conflict) - 1].id
    return conflict


def _value(merge: WaitingMerge, path: str | None, conflict: str | None, text: str) -> Any:
    """JSON where either side is not a text, else the text as it is."""
    found = next((c for a in merge.artifacts if a.path == path for c in a.conflicts if c.id == conflict), None)
    if found is None or isinstance(found.target, str) or isinstance(found.source, str):
        return text
    try:
        return json.loads(text)
    except ValueError:
        return text


def _by_program(shelf: ShelfClient, merge: WaitingMerge, artifact: str | None) -> WaitingMerge:
    """All three versions as files to the program, and what is merged so far; what it makes of that is the artifact."""
    given = os.environ.get(PROGRAM, "")
    if not given:
        raise click.UsageError(f'set {PROGRAM}, as in {PROGRAM}="PROGRAM {{base}} {{target}} {{source}} {{output}}"')
    path = _path(merge, artifact)
    if path is None:
        raise click.UsageError("name the ARTIFACT to open")
    found = next(a for a in merge.artifacts if a.path == path)
    with tempfile.TemporaryDirectory(prefix="everyshelf-settle-") as folder:
        name = path.rpartition("/")[2]
        files = {side: Path(folder, side, name) for side in ("base", "target", "source", "output")}
        for side, file in files.items():
            file.parent.mkdir()
            content = shelf.merged_so_far(merge.id, path) if side == "output" else getattr(found, side)
            file.write_bytes(shelf.content(content) if content else b"")
        words = [word.format(**{s: str(f) for s, f in files.items()}) for word in shlex.split(given)]
        before = files["output"].read_bytes()
        done = subprocess.run(words, check=False)
        if done.returncode:
            raise click.ClickException(f"{words[0]} ended with {done.returncode}; nothing was settled")
        if files["output"].read_bytes() == before:
            if "{output}" not in given:
                raise click.ClickException(f"{PROGRAM} names no {{output}}, so no result can be read")
            raise click.ClickException(
                f"{words[0]} left {path} as it was merged so far; nothing was settled. To keep the target's side on "
                f"purpose: everyshelf settle {shlex.quote(path)} --take target"
            )
        content = shelf.upload(files["output"]).id
    return shelf.settle(merge.id, [{"path": path, "content": content}])


def _print_waiting(merges: list[WaitingMerge], as_json: bool) -> None:
    if as_json:
        import msgspec

        terminal.print_json({"merges": msgspec.to_builtins(merges)})
        return
    if not merges:
        terminal.say(terminal.bold("No open merge") + ".")
        return
    terminal.say(terminal.bold(f"{terminal.count(len(merges), 'open merge')}") + ".")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(16, path=True),
            terminal.Column(58),
            terminal.Column(68),
            terminal.Column(82),
        )
    )
    for merge in merges:
        ends, when = f"{merge.source} → {merge.target}", terminal.when(merge.created)
        listing.row((merge.id, terminal.bold), ends, merge.created_by, when, f"{merge.decided} settled")
    listing.show()
    terminal.next_step(f"everyshelf settle --merge {merges[0].id}")


def _print_merge(merge: WaitingMerge, as_json: bool) -> None:
    if as_json:
        import msgspec

        terminal.print_json(msgspec.to_builtins(merge))
        return
    left = f"{terminal.count(merge.open, 'conflict')} to settle" if merge.open else "everything is settled"
    terminal.say(terminal.bold(f"{merge.source} into {merge.target}: {left}") + ".")
    terminal.say(terminal.dim(f"  target: {merge.target}, source: {merge.source}"))
    for artifact in merge.artifacts:
        if not artifact.conflicts:
            continue
        done = sum(1 for c in artifact.conflicts if c.decision is not None)
        count = f"{done} of {len(artifact.conflicts)} settled"
        combined = f"{artifact.combined} merged automatically" if artifact.combined else ""
        terminal.say(terminal.line((0, terminal.bold(artifact.path)), (48, count), (66, terminal.dim(combined))))
        _print_conflicts(artifact.conflicts, {"target": merge.target, "source": merge.source})
        for note in artifact.notes:
            terminal.say(terminal.dim(f"  {note}"))
    first = next((a for a in merge.artifacts if a.open), None)
    if first is not None:
        number = next(n for n, c in enumerate(first.conflicts, 1) if c.decision is None)
        terminal.next_step(f"everyshelf settle {shlex.quote(first.path)} {number} --take target")
    else:
        terminal.next_step(f"everyshelf settle --merge {merge.id} --finish")

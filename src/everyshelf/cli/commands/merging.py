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

from everyshelf.cli import terminal
from everyshelf.cli.commands.files import checked_kind
from everyshelf.cli.errors import Unsettled
from everyshelf.cli.session import json_option, open_shelf, shelf_options

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient, WaitingMerge
    from everyshelf.desk import Desk

_FILE = click.Path(exists=True, dir_okay=False, readable=True, path_type=Path)
_SECONDS = 600.0
_LINE = 76
PROGRAM = "EVERYSHELF_MERGE_PROGRAM"


@click.command("merge-files")
@click.argument("base", type=_FILE)
@click.argument("this", type=_FILE)
@click.argument("other", type=_FILE)
@click.option("--output", required=True, type=click.Path(dir_okay=False, path_type=Path), help="File for the result.")
@click.option("--prefer", type=click.Choice(["this", "other"]), help="The side that holds where both cannot.")
@click.option("--kind", help="Read all three as this kind.")
@click.option("--rules", type=_FILE, help="A shelf.toml to go by.")
@json_option
def merge_files(
    base: Path,
    this: Path,
    other: Path,
    output: Path,
    prefer: str | None,
    kind: str | None,
    rules: Path | None,
    as_json: bool,
) -> None:
    """Put THIS and OTHER together, which both grew from BASE, by what they mean.

    With conflicts left the exit code is 3 and OUTPUT is not written.
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
            this.name, (base, this, other), half, rules_text=text, kind=checked_kind(kind), prefer=prefer
        )
        if found["merged"]:
            half.chmod(this.stat().st_mode & 0o777)
            half.replace(output)
    finally:
        worker.close()
        half.unlink(missing_ok=True)
    if as_json:
        terminal.print_json(found)
    else:
        _print_merged(found, output)
    if not found["merged"]:
        raise Unsettled(f"{_open_count(found['conflicts'])} to settle; {output} is not written")


def _open_count(conflicts: list[dict[str, Any]]) -> str:
    return terminal.count(sum(1 for c in conflicts if "decision" not in c), "conflict")


def _print_merged(found: dict[str, Any], output: Path) -> None:
    if found["merged"]:
        settled = f", {terminal.count(len(found['conflicts']), 'conflict')} settled" if found["conflicts"] else ""
        changes = terminal.count(found["combined"], "change")
        terminal.say(terminal.bold(f"Merged as {found['read_as']}") + f": {changes} of both sides{settled} → {output}")
    else:
        terminal.say(terminal.bold(f"{_open_count(found['conflicts'])} to settle") + f", read as {found['read_as']}.")
    _print_conflicts(found["conflicts"])
    for note in found["notes"]:
        terminal.say(terminal.dim(f"  {note}"))
    if not found["merged"]:
        terminal.next_step("everyshelf merge-files … --prefer this, or --prefer other")


def _print_conflicts(conflicts: list[dict[str, Any]], most: int = 40) -> None:
    for number, conflict in enumerate(conflicts[:most], 1):
        decision = conflict.get("decision")
        word = _taken(decision) if decision else "open"
        state = "settled" if decision else "conflict"
        terminal.say(
            terminal.line(
                (2, terminal.tone(state, f"{terminal.GLYPHS[state]} {word}")),
                (18, str(number)),
                (22, terminal.cut(_capital(_headline(conflict)), 76)),
            )
        )
        for side in ("base", "this", "other"):
            if side in conflict and not decision and _is_long(conflict):
                terminal.say(terminal.line((22, terminal.dim(side)), (29, terminal.cut(_said(conflict[side]), 69))))
        terminal.say(terminal.line((22, terminal.dim(terminal.cut(conflict["id"], 76)))))
    if len(conflicts) > most:
        terminal.say(terminal.dim(f"  … and {len(conflicts) - most} more; see --json"))


def _is_long(conflict: dict[str, Any]) -> bool:
    """True where the sentence does not fit, or does not say what the sides have."""
    sides = [_said(conflict[side]) for side in ("this", "other") if side in conflict]
    return len(conflict["why"]) > _LINE or not all(said in conflict["why"] for said in sides)


def _headline(conflict: dict[str, Any]) -> str:
    if len(conflict["why"]) <= _LINE:
        return str(conflict["why"])
    return f"{conflict['type']} “{conflict['label']}”: {conflict['field'] or 'as a whole'}"


def _said(value: Any) -> str:
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return " ⏎ ".join(text.splitlines()) if "\n" in text else text


def _capital(text: str) -> str:
    return text[:1].upper() + text[1:]


def _taken(decision: dict[str, Any]) -> str:
    words = {"this": "this side", "other": "the other", "both": "both", "edited": "edited"}
    return words[decision["take"]]


@click.command("settle")
@click.argument("artifact", required=False)
@click.argument("conflict", required=False)
@click.option("--take", type=click.Choice(["this", "other", "both"]), help="Which side holds, or both.")
@click.option("--value", help="Another value in its place: a text, or JSON.")
@click.option("--undo", is_flag=True, help="Take the decision back.")
@click.option("--program", is_flag=True, help=f"Hand ARTIFACT to the program named in {PROGRAM}.")
@click.option("--finish", is_flag=True, help="Make the merge commit.")
@click.option("--summary", default="", help="With --finish: what to say about it.")
@click.option("--give-up", is_flag=True, help="Leave both sides as they are.")
@click.option("--merge", "merge_id", help="The merge meant, where several wait.")
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
    give_up: bool,
    merge_id: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Settle a merge that waits: show it, decide about CONFLICT of ARTIFACT (its number or id), finish it.

    Without CONFLICT all that is open in ARTIFACT is settled, without ARTIFACT all there is.
    """
    shelf, desk = open_shelf(shelf_key, address)
    merge = _meant(shelf, merge_id)
    if merge is None:
        _print_waiting(shelf.merges(), as_json)
        return
    if give_up:
        shelf.abandon_merge(merge.id)
        _follow(desk, shelf, merge)
        _tell(as_json, {"abandoned": merge.id}, f"Merge {merge.id} is given up; both sides stay as they are.")
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
    """Bring the desk that began a merge up to date when it ends."""
    from everyshelf.desk.catching_up import catch_up
    from everyshelf.desk.merging import open_merge
    from everyshelf.desk.unsent import has_unsent

    known = open_merge(desk.root) if desk is not None else None
    if desk is None or known is None or known.merge != merge.id or has_unsent(desk.root):
        return
    found = catch_up(desk, shelf)
    for path in found.conflicts:
        click.echo(f"{path} was edited here since and does not go together with it: everyshelf catch-up", err=True)


def _tell(as_json: bool, document: dict[str, Any], words: str) -> None:
    if as_json:
        terminal.print_json(document)
    else:
        terminal.say(words)


def _meant(shelf: ShelfClient, uid: str | None) -> WaitingMerge | None:
    """The merge that is named, or the only one that waits."""
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
        raise click.UsageError("say which ARTIFACT and which CONFLICT; see everyshelf settle")
    if value is not None and not undo:
        if take is not None:
            raise click.UsageError("--take and --value cannot go together")
        said |= {"take": "edited", "value": _value(merge, said["path"], said["conflict"], value)}
    return said


def _path(merge: WaitingMerge, artifact: str | None) -> str | None:
    if artifact is None:
        return None
    paths = [a["path"] for a in merge.artifacts]
    named = [p for p in paths if p == artifact or p.rpartition("/")[2] == artifact]
    if len(named) != 1:
        raise click.UsageError(f"{artifact!r} is none of what is to be settled: {', '.join(paths) or 'nothing'}")
    return str(named[0])


def _conflict(merge: WaitingMerge, path: str | None, conflict: str) -> str:
    if path is None:
        raise click.UsageError("say which ARTIFACT the conflict is in")
    conflicts = next(a["conflicts"] for a in merge.artifacts if a["path"] == path)
    if conflict.isascii() and conflict.isdigit() and len(conflict) < 10 and 0 < int(conflict) <= len(conflicts):
        return str(conflicts[int(conflict) - 1]["id"])
    return conflict


def _value(merge: WaitingMerge, path: str | None, conflict: str | None, text: str) -> Any:
    """JSON where either side is not a text, else the text as it is."""
    found = next((c for a in merge.artifacts if a["path"] == path for c in a["conflicts"] if c["id"] == conflict), None)
    if found is None or any(isinstance(found.get(side), str) for side in ("this", "other")):
        return text
    try:
        return json.loads(text)
    except ValueError:
        return text


def _by_program(shelf: ShelfClient, merge: WaitingMerge, artifact: str | None) -> WaitingMerge:
    """All three versions as files to the program; what it leaves is the artifact."""
    given = os.environ.get(PROGRAM, "")
    if not given:
        raise click.UsageError(f'set {PROGRAM}, as in {PROGRAM}="PROGRAM {{base}} {{this}} {{other}} {{result}}"')
    path = _path(merge, artifact)
    if path is None:
        raise click.UsageError("say which ARTIFACT to hand over")
    found = next(a for a in merge.artifacts if a["path"] == path)
    with tempfile.TemporaryDirectory(prefix="everyshelf-settle-") as folder:
        name = path.rpartition("/")[2]
        files = {side: Path(folder, side, name) for side in ("base", "this", "other", "result")}
        for side, file in files.items():
            file.parent.mkdir()
            content = found["this" if side == "result" else side]
            file.write_bytes(shelf.content(content) if content else b"")
        words = [word.format(**{s: str(f) for s, f in files.items()}) for word in shlex.split(given)]
        before = files["result"].read_bytes()
        done = subprocess.run(words, check=False)
        if done.returncode:
            raise click.ClickException(f"{words[0]} ended with {done.returncode}; nothing is settled by it")
        if files["result"].read_bytes() == before and "{result}" not in given:
            raise click.ClickException(f"{PROGRAM} names no {{result}}, so nothing can come back")
        content = shelf.upload(files["result"]).id
    return shelf.settle(merge.id, [{"path": path, "content": content}])


def _print_waiting(merges: list[WaitingMerge], as_json: bool) -> None:
    if as_json:
        import msgspec

        terminal.print_json({"merges": msgspec.to_builtins(merges)})
        return
    if not merges:
        terminal.say(terminal.bold("Nothing waits to be settled") + ".")
        return
    terminal.say(terminal.bold(f"{terminal.count(len(merges), 'merge')} wait to be settled") + ".")
    for merge in merges:
        terminal.say(
            terminal.line(
                (2, terminal.bold(merge.id)),
                (16, terminal.cut(f"{merge.source} → {merge.target}", 40)),
                (58, merge.created_by),
                (68, terminal.when(merge.created)),
                (82, f"{merge.decided} settled"),
            )
        )
    terminal.next_step(f"everyshelf settle --merge {merges[0].id}")


def _print_merge(merge: WaitingMerge, as_json: bool) -> None:
    if as_json:
        import msgspec

        terminal.print_json(msgspec.to_builtins(merge))
        return
    left = f"{terminal.count(merge.open, 'conflict')} to settle" if merge.open else "everything is settled"
    terminal.say(terminal.bold(f"{merge.source} into {merge.target}: {left}") + ".")
    for artifact in merge.artifacts:
        if not artifact["conflicts"]:
            continue
        done = sum(1 for c in artifact["conflicts"] if "decision" in c)
        count = f"{done} of {len(artifact['conflicts'])} settled"
        combined = f"{artifact['combined']} combined on their own" if artifact["combined"] else ""
        terminal.say(terminal.line((0, terminal.bold(artifact["path"])), (48, count), (66, terminal.dim(combined))))
        _print_conflicts(artifact["conflicts"])
        for note in artifact["notes"]:
            terminal.say(terminal.dim(f"  {note}"))
    first = next((a for a in merge.artifacts if a["open"]), None)
    if first is not None:
        terminal.next_step(f"everyshelf settle {shlex.quote(first['path'])} 1 --take this, or other")
    else:
        terminal.next_step("everyshelf settle --finish")

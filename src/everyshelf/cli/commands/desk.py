"""``take``, ``pending``, ``commit``, ``discard``, ``restore``."""

from __future__ import annotations

import contextlib
import json
import os
import shlex
import uuid
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.errors import Unsettled
from everyshelf.cli.options import json_option, shelf_options
from everyshelf.cli.session import find_desk, get_desk, open_client, open_shelf
from everyshelf.cli.unsent import print_unsent

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.core.merge.model import Side
    from everyshelf.desk.desk import Desk
    from everyshelf.desk.states import Item

_MANY = 200
# Which side of the merge the desk is: its target when it catches up, the source of what it commits.
_CAUGHT_UP: dict[str, Side] = {"desk": "target", "shelf": "source"}
_COMMITTED: dict[str, Side] = {"desk": "source", "shelf": "target"}


@click.command("take")
@click.argument("shelf_key", metavar="SHELF", required=False, shell_complete=completing.shelves)
@click.argument("folder", type=click.Path(file_okay=False, path_type=Path), required=False)
@click.option("--branch", help="Branch to work on; default: the main branch.")
@click.option(
    "--at", "ref", metavar="REF", help="Take this tag, commit or date instead of a branch; the desk is read-only."
)
@click.option("--unfold", is_flag=True, help="Also unfold apps, tests, notebooks and archives into NAME.unfolded/.")
@click.option("--only", multiple=True, metavar="PATH", help="Only this artifact or folder; may be repeated.")
@click.option("--watch", is_flag=True, help="Save edits in your draft as files change, until Ctrl+C.")
@click.option("--address", help="Address of the service.")
@json_option
def take(
    shelf_key: str | None,
    folder: Path | None,
    branch: str | None,
    ref: str | None,
    unfold: bool,
    only: tuple[str, ...],
    watch: bool,
    address: str | None,
    as_json: bool,
) -> None:
    """Copy SHELF into FOLDER as a new desk. Inside a desk, without SHELF: update it.

    Edited files are never overwritten. --only limits the desk to some paths; on an existing desk it adds paths.
    With --unfold, parts edited in NAME.unfolded/ are written back into NAME by the next command on this desk.
    """
    from everyshelf.desk.desk import Desk, Origin
    from everyshelf.desk.errors import DeskError

    if watch and (as_json or ref):
        raise click.UsageError("--watch cannot be combined with --json or --at")
    if shelf_key is None:
        desk = get_desk()
        if branch or ref:
            raise click.UsageError("a desk stays on its branch; take another one into a folder of its own")
        if only and not desk.home.only:
            raise click.UsageError(
                "this desk has the whole shelf already; --only takes a part of it into another folder"
            )
        if only:
            ref_here = desk.home.branch or desk.home.ref
            new = [o for o in only if not (desk.root / o.strip("/")).exists()]
            _check_only(open_client(None, desk).shelf(desk.home.shelf), ref_here, tuple(new))
            desk.home.only = sorted({*desk.home.only, *(o.strip("/") for o in only)})
    else:
        info = open_client(address).shelf(shelf_key).info()
        client = open_client(address)
        name = None if ref else branch or info.main_branch
        if name is not None:
            client.shelf(shelf_key).branch(name)
        _check_only(client.shelf(shelf_key), ref or name or "", only)
        desk = Desk.make(
            Path(os.path.abspath(folder or shelf_key)), Origin(client.address, shelf_key, name, ref or name or "")
        )
        desk.home.only = sorted({o.strip("/") for o in only})
    shelf = open_client(None, desk).shelf(desk.home.shelf)
    send_first(desk, shelf)
    desk.home.unfold = desk.home.unfold or unfold
    with terminal.progress_bar("Taking") as progress:
        taken = desk.take(shelf, progress)
    if unfold and shelf_key is None:
        taken.unfolded = desk.unfold_all()
    if as_json:
        terminal.print_json(
            {
                "desk": str(desk.root),
                "shelf": desk.home.shelf,
                "branch": desk.home.branch,
                "commit": desk.home.commit,
                "written": taken.written,
                "removed": taken.removed,
                "kept": taken.kept,
                "unfolded": taken.unfolded,
                "in_place": taken.in_place,
            }
        )
    else:
        _print_taken(desk, taken)
    if watch:
        _watch(desk, shelf)
        return
    if taken.kept:
        left = "was" if len(taken.kept) == 1 else "were"
        raise DeskError(
            f"{terminal.count(len(taken.kept), 'artifact')} edited here changed there too, and {left} left as you have"
            f" them: {', '.join(taken.kept[:3])}",
            code="take.kept",
            hint="Bring both together: everyshelf catch-up.",
        )


def _check_only(shelf: ShelfClient, ref: str, only: tuple[str, ...]) -> None:
    """Raise if there is nothing at a path that was named: a desk without it would look as if all were well."""
    if not only:
        return
    paths = [a.path for a in shelf.artifacts(ref, files=True)]
    for one in (o.strip("/") for o in only):
        if not any(path == one or path.startswith(f"{one}/") for path in paths):
            raise click.BadParameter(f"there is no artifact or folder {one} in {ref}", param_hint="--only")


def send_first(desk: Desk, shelf: ShelfClient) -> list[str]:
    """Send unsent commits; told on stderr, because it is not what was asked for."""
    from everyshelf.desk.unsent import has_unsent

    if not has_unsent(desk.root):
        return []
    sent = desk.send(shelf)
    which = ", ".join(one[:8] for one in sent) or "the branch has all of them already"
    click.echo(f"Sent {terminal.count(len(sent), 'unsent commit')}: {which}.", err=True)
    return sent


@click.command("catch-up")
@click.option("--prefer", type=click.Choice(["desk", "shelf"]), help="For conflicts: keep this side.")
@json_option
def catch_up(prefer: str | None, as_json: bool) -> None:
    """Update this desk with newer commits. Artifacts that both you and others changed are merged by meaning."""
    from everyshelf.desk.catching_up import catch_up as bring

    desk = get_desk()
    shelf = open_client(None, desk).shelf(desk.home.shelf)
    send_first(desk, shelf)
    found = bring(desk, shelf, _CAUGHT_UP.get(prefer or ""))
    taken = found.taken
    if as_json:
        terminal.print_json(
            {
                "desk": str(desk.root),
                "commit": desk.home.commit,
                "written": taken.written,
                "removed": taken.removed,
                "merged": sorted(found.merged),
                "conflicts": found.conflicts,
                "notes": found.notes,
            }
        )
    else:
        _print_taken(desk, taken)
        listing = terminal.artifact_listing()
        for path, combined in found.merged.items():
            changes = f"{terminal.count(combined, 'change')} merged"
            terminal.artifact_row(listing, "edited", "", path, changes, word="merged")
        for path, why in found.conflicts.items():
            for said in why:
                terminal.artifact_row(listing, "conflict", "", path, said, word="open")
        listing.show()
        for note in found.notes:
            terminal.say(terminal.dim(f"  {note}"))
    if found.conflicts:
        raise Unsettled(
            f"{terminal.count(len(found.conflicts), 'artifact')} in conflict, left unchanged on this desk. Settle them:"
            " everyshelf commit --merge, then everyshelf settle; or catch up with --prefer."
        )


def _watch(desk: Desk, shelf: ShelfClient) -> None:
    import threading

    from everyshelf.desk.watching import watch

    terminal.say(terminal.bold(f"Watching {desk.root}") + "; edits go into your draft as files change. Ctrl+C ends it.")
    with contextlib.suppress(KeyboardInterrupt):
        for found in watch(desk, shelf, threading.Event()):
            for path, state in found.saved:
                terminal.row(state, "", path, f"saved {terminal.when(found.at)}")
            for path, why in found.blocked.items():
                terminal.row("blocked", "", path, why)
            if found.problem:
                terminal.say(f"  {found.problem}; what you edit waits on this desk and is sent when it can be.")
    terminal.say("Watching has ended; what was saved is in your draft: everyshelf draft list")


def _artifacts_of(desk: Desk, paths: list[str]) -> set[str]:
    """The artifacts these files are, or lie in."""
    from everyshelf.desk.states import find_wholes

    wholes = find_wholes(desk.root)
    return {next((w for w in wholes if path.startswith(f"{w}/")), path) for path in paths}


def _print_taken(desk: Desk, taken: Any) -> None:
    at = f"at {desk.home.commit[:8]}" if desk.home.commit else "with no commit yet"
    where = f"{desk.home.branch} {at}" if desk.home.branch else desk.home.ref
    where += f", only {', '.join(desk.home.only)}" if desk.home.only else ""
    written, gone = _artifacts_of(desk, taken.written), _artifacts_of(desk, taken.removed)
    sentence = f"{terminal.count(len(written), 'artifact')} written" if written or gone else "Nothing new"
    removed = f", {len(gone)} removed" if gone else ""
    terminal.say(terminal.bold(sentence + removed) + f"; the desk is on {where}.")
    for path in taken.unfolded:
        terminal.say(terminal.line((2, terminal.dim("unfolded")), (13, f"{path}.unfolded/")))
    if taken.in_place:
        artifacts = terminal.count(len(_artifacts_of(desk, taken.in_place)), "artifact")
        terminal.say(f"  {artifacts} in place, not copied here (to copy one: everyshelf browse PATH --output FILE)")
    here = find_desk()
    terminal.next_step(
        "everyshelf pending" if here is not None else f"cd {shlex.quote(str(desk.root))} && everyshelf pending"
    )


@click.command("pending")
@click.argument("artifacts", nargs=-1, shell_complete=completing.pending)
@json_option
@click.option("--all", "show_all", is_flag=True, help="Also list unchanged artifacts.")
@click.option("--unsent", is_flag=True, help="List the unsent commits with their artifacts instead.")
def pending(artifacts: tuple[str, ...], as_json: bool, show_all: bool, unsent: bool) -> None:
    """List what has changed on this desk, or only among ARTIFACTS (paths, folders or patterns). Works offline."""
    desk = get_desk()
    if unsent:
        print_unsent(desk, as_json)
        return
    items = desk.within(desk.artifacts(), artifacts)
    if as_json:
        terminal.print_json(_pending_json(desk, items, show_all))
        return
    changed = [i for i in items if i.state not in ("same", "blocked")]
    blocked = [i for i in items if i.state == "blocked"]
    _print_pending(desk, items, changed, blocked, show_all)


def _pending_json(desk: Desk, items: list[Item], show_all: bool) -> dict[str, Any]:
    from everyshelf.desk.unsent import unsent_commits

    counts = dict.fromkeys(("new", "edited", "moved", "gone", "same", "blocked"), 0)
    for item in items:
        counts[item.state] += 1
    shown = [i for i in items if show_all or i.state != "same"]
    from everyshelf.desk.kinds import kinds_on_desk

    kinds = kinds_on_desk(desk, shown)
    return {
        "branch": desk.home.branch,
        "commit": desk.home.commit,
        "unsent": [
            {"number": u.number, "summary": u.commit.summary, "made": u.commit.made.isoformat()}
            for u in unsent_commits(desk.root)
        ],
        "counts": counts,
        "artifacts": [
            {
                "path": i.path,
                "state": i.state,
                "kind": kinds[i.path],
                "version": i.entry.version if i.entry else None,
                "moved_from": i.moved_from or None,
                "reason": i.reason or None,
                "files": {"differing": i.files[0], "all": i.files[1]} if i.files else None,
            }
            for i in shown
        ],
    }


def _files_of(item: Item) -> str:
    if item.files is None:
        return ""
    differing, every = item.files
    return f"all {every} files" if differing == every else f"{differing} of {every} files"


def _print_pending(desk: Desk, items: list[Item], changed: list[Item], blocked: list[Item], show_all: bool) -> None:
    from everyshelf.desk.unsent import unsent_commits

    at = f"at {desk.home.commit[:8]}" if desk.home.commit else "with no commit yet"
    sentence = (
        f"{terminal.count(len(changed), 'pending change')} on this desk"
        if changed
        else "No pending changes on this desk"
    )
    tail = f", {len(blocked)} blocked" if blocked else ""
    terminal.say(terminal.bold(sentence + tail) + f" (compared with {desk.home.branch or desk.home.ref} {at}).")
    for unsent in unsent_commits(desk.root):
        what = f"commit {unsent.number}, {terminal.count(len(unsent.commit.changes), 'artifact')}"
        terminal.say(terminal.line((2, "unsent"), (terminal.KIND, what), (36, terminal.bold(unsent.commit.summary))))
    shown = (changed + blocked)[: terminal.most(_MANY)]
    from everyshelf.desk.kinds import kinds_on_desk

    kinds = kinds_on_desk(desk, shown)
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(terminal.KIND),
            terminal.Column(terminal.NAME, path=True),
            terminal.Column(terminal.DETAIL),
            terminal.Column(52, wrap=True),
        )
    )
    for item in shown:
        version = f"v{item.entry.version}" if item.entry and item.entry.version else ""
        note = item.reason or (f"from {item.moved_from}" if item.moved_from else _files_of(item))
        mark = f"{terminal.GLYPHS[item.state]} {item.state}"
        styled = terminal.bold(mark) if item.state == "blocked" else terminal.tone(item.state, mark)
        listing.row(styled, kinds[item.path], (item.path, terminal.bold), (version, terminal.dim), note)
    listing.show()
    terminal.say_left(changed + blocked, _MANY)
    same = [i for i in items if i.state == "same"]
    if show_all:
        listing = terminal.artifact_listing()
        for item in same:
            kind = item.entry.kind if item.entry else ""
            terminal.artifact_row(listing, "same", kind, item.path, word="same", faint=True)
        listing.show()
    elif same:
        terminal.say(
            terminal.line(
                (2, terminal.dim("  same")), (terminal.KIND, terminal.dim(terminal.count(len(same), "artifact")))
            )
        )
    if changed and desk.home.branch:
        names = " ".join(shlex.quote(i.path) for i in changed[:3]) if len(changed) <= 3 else ""
        terminal.next_step(f'everyshelf commit --summary "SUMMARY" {names}'.rstrip())


@click.command("commit")
@click.argument("artifacts", nargs=-1, shell_complete=completing.pending)
@click.option("--summary", help="What changed, in one line.")
@click.option("--description", default="", help="Longer description.")
@click.option("--label", "labels", multiple=True, metavar="KEY=VALUE", help="A label; may be repeated.")
@click.option("--task", "tasks", multiple=True, metavar="ID", help="Task it is for; may be repeated.")
@click.option("--made-from", multiple=True, metavar="PATH[@REF]", help="What it was made from; may be repeated.")
@click.option("--made-with", default="", metavar="COMMAND", help="The command that made it.")
@click.option("--made-by", default="", metavar="NAME", help="The build, or the version of the code, that made it.")
@click.option("--merge", is_flag=True, help="If the branch has newer commits, merge them with yours.")
@click.option(
    "--prefer",
    type=click.Choice(["desk", "shelf"]),
    help="With --merge, for conflicts: keep this side.",
)
@click.option("--send", is_flag=True, help="Without a summary: only send unsent commits.")
@click.option(
    "--remove", is_flag=True, help="Remove gone artifacts without asking; also ARTIFACTS that are ignored (files stay)."
)
@json_option
def commit(
    artifacts: tuple[str, ...],
    summary: str | None,
    description: str,
    labels: tuple[str, ...],
    tasks: tuple[str, ...],
    made_from: tuple[str, ...],
    made_with: str,
    made_by: str,
    merge: bool,
    prefer: str | None,
    send: bool,
    remove: bool,
    as_json: bool,
) -> None:
    """Commit pending ARTIFACTS (paths, folders, names or patterns such as "data/*.csv"), or everything pending.

    If one cannot be committed, none is.

    While the service is out of reach, the commit stays on the desk, unsent; the next commit, take or catch-up that
    reaches the service sends it. More than a few removals are asked about first.
    """
    from everyshelf.client import CommitMessage, UnreachableError

    if summary is None and not send:
        raise click.UsageError("name what changed: --summary TEXT")
    desk = get_desk()
    shelf = open_client(None, desk).shelf(desk.home.shelf)
    if summary is None:
        _sent(desk, shelf, as_json)
        return
    states = desk.states()
    changed = [i for i in states if i.state not in ("same", "blocked")]
    if remove:
        changed += desk.ignored(states, artifacts)
    items = desk.select(changed, artifacts)
    _confirm_removals(items, remove)
    blocked = [i for i in states if i.state == "blocked"]
    made_of = {"made-from": json.dumps(made_from) if made_from else "", "made-with": made_with, "made-by": made_by}
    named = _labels(labels) | {key: value for key, value in made_of.items() if value}
    message = CommitMessage(summary, description, named, list(tasks))
    waiting, made, key = 0, None, uuid.uuid4().hex
    try:
        send_first(desk, shelf)
        with terminal.progress_bar("Sending") as progress:
            side = _COMMITTED.get(prefer or "")
            made = desk.commit(shelf, items, message, merge=merge, prefer=side, key=key, progress=progress)
    except UnreachableError as error:
        if error.code != "service.unreachable":
            raise
        waiting = desk.commit_later(items, message, key=key if error.reached and not merge else "")
    if as_json:
        committed = [{"path": i.path, "state": i.state} for i in items]
        told = _plain(made) if made else {"commit": None, "summary": summary}
        more = {"artifacts": committed, "blocked": [i.path for i in blocked], "unsent": waiting}
        more["counts"] = {word: sum(i.state == state for i in items) for state, word in _DOES.items()}
        terminal.print_json({**told, **more})
        return
    count = terminal.count(len(items), "artifact")
    if made is not None:
        terminal.say(terminal.bold(f"Committed {count} to {desk.home.branch}") + f" as {made.commit[:8]}: {summary}")
    else:
        terminal.say(
            terminal.bold(f"Committed {count} on this desk")
            + f"; the service is out of reach, {terminal.count(waiting, 'unsent commit')} here."
        )
    terminal.say(f"  {_what_it_does(items)}")
    listing = terminal.artifact_listing()
    for item in blocked:
        terminal.artifact_row(listing, "blocked", "", item.path, item.reason)
    listing.show()
    terminal.next_step("everyshelf history --limit 5" if made else "everyshelf commit --send")


_DOES = {"new": "added", "edited": "changed", "moved": "moved", "gone": "removed"}
_FEW = 5


def _what_it_does(items: list[Item]) -> str:
    """How many artifacts a commit adds, changes, moves and removes."""
    counts = {word: sum(i.state == state for i in items) for state, word in _DOES.items()}
    return ", ".join(f"{number} {word}" for word, number in counts.items() if number)


def _confirm_removals(items: list[Item], agreed: bool) -> None:
    """Ask before more than a few artifacts leave the shelf: a folder that was moved away takes all of it along."""
    gone = [i for i in items if i.state == "gone"]
    if len(gone) <= _FEW or agreed:
        return
    first = ", ".join(i.path for i in gone[:3])
    question = f"This commit removes {len(gone)} artifacts from the shelf: {first}, …"
    import sys

    if sys.stdin.isatty() and sys.stderr.isatty():
        click.confirm(f"{question}\nRemove them?", abort=True, err=True)
        return
    raise click.UsageError(f"{question} To remove them, add --remove; or name the artifacts to commit.")


def _sent(desk: Desk, shelf: ShelfClient, as_json: bool) -> None:
    sent = send_first(desk, shelf)
    if as_json:
        terminal.print_json({"sent": sent})
    elif not sent:
        terminal.say(terminal.bold("No unsent commits") + " on this desk.")
    else:
        terminal.next_step("everyshelf history --limit 5")


def _plain(value: Any) -> dict[str, Any]:
    import msgspec

    result: dict[str, Any] = msgspec.to_builtins(value)
    return result


def _labels(texts: tuple[str, ...]) -> dict[str, str]:
    result = {}
    for text in texts:
        key, equals, value = text.partition("=")
        if not equals or not key:
            raise click.BadParameter(f"{text!r} is not KEY=VALUE", param_hint="--label")
        result[key] = value
    return result


@click.command("discard")
@click.argument("artifacts", nargs=-1, shell_complete=completing.pending)
@click.option("--all", "everything", is_flag=True, help="Discard everything pending.")
@click.option("--unsent", type=int, metavar="NUMBER", help="Discard this unsent commit; its changes are pending again.")
@json_option
def discard(artifacts: tuple[str, ...], everything: bool, unsent: int | None, as_json: bool) -> None:
    """Undo pending changes to ARTIFACTS. Your edits are kept in .everyshelf/discarded.

    With --unsent, an unsent commit is discarded and its changes are pending again.
    """
    if unsent is not None:
        if artifacts or everything:
            raise click.UsageError("--unsent cannot be combined with ARTIFACTS or --all")
        _discard_unsent(unsent, as_json)
        return
    if not artifacts and not everything:
        raise click.UsageError("name the artifacts to discard, or give --all")
    desk = get_desk()
    items = desk.select(desk.pending(), artifacts)
    paths = desk.discard(open_client(None, desk).shelf(desk.home.shelf), items)
    if as_json:
        terminal.print_json({"discarded": paths})
        return
    terminal.say(
        terminal.bold(f"{terminal.count(len(paths), 'change')} discarded") + "; a copy is in .everyshelf/discarded."
    )
    for item in items:
        terminal.row(item.state, item.entry.kind if item.entry else "", item.path)


def _discard_unsent(number: int, as_json: bool) -> None:
    desk = get_desk()
    dropped = desk.drop(number)
    if as_json:
        terminal.print_json({"discarded": number, "summary": dropped.commit.summary})
        return
    size = terminal.count(len(dropped.commit.changes), "artifact")
    terminal.say(terminal.bold(f"Discarded the unsent commit {number}") + f": {dropped.commit.summary}")
    terminal.say(f"  What it changed ({size}) is pending again; no file was touched.")
    terminal.next_step("everyshelf pending")


@click.command("restore")
@click.argument("artifact", required=False, shell_complete=completing.artifacts)
@click.option(
    "--at",
    "ref",
    metavar="REF",
    required=True,
    help="State to restore; for an artifact also version:N.",
    shell_complete=completing.refs,
)
@click.option("--branch", help="Branch to commit to; default: the desk's.", shell_complete=completing.branches)
@click.option("--summary", default="", help="Commit summary.")
@shelf_options
def restore(
    artifact: str | None,
    ref: str,
    branch: str | None,
    summary: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Restore ARTIFACT, or the whole shelf, to an earlier state, as a new commit."""
    shelf, desk = open_shelf(shelf_key, address)
    target = branch or (desk.home.branch if desk else None) or shelf.info().main_branch
    path = desk.as_path(artifact) if desk and artifact else artifact
    made = shelf.restore(target, ref, path, summary)
    taken = desk.take(shelf) if desk is not None and desk.home.branch == target else None
    if as_json:
        terminal.print_json({**_plain(made), "written": taken.written if taken else []})
        return
    terminal.say(
        terminal.bold(f"Restored {artifact or 'the shelf'} to {ref}") + f", commit {made.commit[:8]} on {target}."
    )

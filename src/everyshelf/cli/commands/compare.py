"""``compare``."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.commands.desk import entry_kind, kind_on_desk
from everyshelf.cli.errors import FailOnMet
from everyshelf.cli.findings import print_artifact, print_measured, print_rows, print_table_line
from everyshelf.cli.reports import report_form, report_option, save_report
from everyshelf.cli.session import default_ref, open_shelf, shelf_options

if TYPE_CHECKING:
    from everyshelf.client import ShelfClient
    from everyshelf.core.reading.worker import Worker
    from everyshelf.desk import Desk, Item

_MOST_ROWS = 20


@dataclass(frozen=True)
class _DeskPair:
    """An artifact that differs: what is on the desk (None: nothing), and content ids of its files at the ref by path.

    ``beside``: content ids at the ref, by name, of files that belong to it.
    """

    path: str
    item: Item | None
    contents: dict[str, str]
    beside: dict[str, str] = field(default_factory=dict)


@click.command("compare")
@click.argument("refs", nargs=-1, metavar="[FROM] [TO] [ARTIFACT]")
@click.option(
    "--fail-on",
    type=click.Choice(["breaks", "alters", "any"]),
    help="Exit with 6 if there is a finding with this effect.",
)
@report_option
@shelf_options
def compare(
    refs: tuple[str, ...],
    fail_on: str | None,
    report: Path | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Compare two states by meaning (steps, columns, rows), not by lines.

    FROM and TO are refs; TO is the desk's branch if left out. With no ref at all: what this desk changed. With an
    ARTIFACT: all findings of it, and refs may be version:N.
    """
    form = report_form(report)
    shelf, desk = open_shelf(shelf_key, address)
    before, after, artifact = _three(refs, desk)
    if "desk" in (before, after):
        found = _compare_desk(shelf, _required(desk), before, after, artifact)
    elif artifact is not None:
        path = desk.as_path(artifact) if desk else artifact
        found = _single(shelf, before, after, _path_of(shelf, path, after))
    else:
        with terminal.progress_bar("Comparing") as progress:
            found = shelf.compare(before, after, lambda job: progress(job.done, job.total, job.note))
    if report is not None and form is not None:
        on_desk = "desk" in (before, after)
        title = f"{f'{artifact} ' if artifact else ''}from {before} to {after}"
        which: str | None = None if artifact is None else found.get("path")
        text = None if on_desk else shelf.compare_report(before, after, path=which, form=form)
        save_report(report, form, found if text is None else text, title)
    if as_json:
        terminal.print_json(found)
    else:
        _print(found, before, after)
    _check(found, fail_on)


def _three(refs: tuple[str, ...], desk: Desk | None) -> tuple[str, str, str | None]:
    if len(refs) > 3:
        raise click.UsageError("give at most FROM, TO and one ARTIFACT")
    if not refs:
        return default_ref(_required(desk)) or "main", "desk", None
    before = refs[0]
    after = refs[1] if len(refs) > 1 else default_ref(desk) or "main"
    return before, after, refs[2] if len(refs) > 2 else None


def _required(desk: Desk | None) -> Desk:
    if desk is None:
        raise click.UsageError("this compares a desk, so run it on one, or name two refs")
    return desk


def _path_of(shelf: ShelfClient, name: str, ref: str) -> str:
    """A path, or the one artifact people call so."""
    from everyshelf.desk.desk import spoken_name

    artifacts = list(shelf.artifacts(None if ref.startswith("version:") else ref))
    if any(a.path == name for a in artifacts):
        return name
    alike = [a.path for a in artifacts if spoken_name(a.path) == spoken_name(name)]
    if len(alike) > 1:
        raise click.UsageError(f"{name!r} is the name of {len(alike)} artifacts: {', '.join(alike[:4])}")
    return alike[0] if alike else name


def _single(shelf: ShelfClient, before: str, after: str, path: str) -> dict[str, Any]:
    found = shelf.compare_artifact(path, before, after)
    return {**found, "path": path, "from": {"ref": before}, "to": {"ref": after}}


# --- the desk --------------------------------------------------------------------


def _compare_desk(shelf: ShelfClient, desk: Desk, before: str, after: str, artifact: str | None) -> dict[str, Any]:
    """The desk against a ref, compared here: only the old contents are asked of the service."""
    from everyshelf.core.compare.sentences import effect_of, headline
    from everyshelf.core.reading.worker import Worker

    ref, backwards = (after, True) if before == "desk" else (before, False)
    pairs = _desk_pairs(shelf, desk, ref)
    if artifact is not None:
        path = desk.as_path(artifact)
        pairs = [p for p in pairs if p.path == path]
    worker, rows = Worker(), []
    try:
        with terminal.progress_bar("Comparing") as progress, tempfile.TemporaryDirectory() as scratch:
            for done, pair in enumerate(pairs):
                progress(done, len(pairs), pair.path)
                rows.append(_desk_row(shelf, desk, worker, Path(scratch, str(done)), pair, backwards=backwards))
    finally:
        worker.close()
    for row in rows:
        if row["findings"]:
            row["effect"], row["headline"] = effect_of(row), headline(row)
    effects = {e: sum(r["effects"].get(e, 0) for r in rows) for e in ("breaks", "alters", "cosmetic")}
    words = f"{terminal.count(len(rows), 'artifact')} differ{'s' if len(rows) == 1 else ''}"
    return {
        "from": {"ref": before},
        "to": {"ref": after},
        "artifacts": rows,
        "effects": effects,
        "pending": 0,
        "sentence": f"{words} on this desk." if rows else "Nothing differs.",
    }


def _desk_pairs(shelf: ShelfClient, desk: Desk, ref: str) -> list[_DeskPair]:
    """What differs between the desk and a ref; a folder kept whole is one artifact."""
    from everyshelf.desk.states import find_wholes

    items = {i.path: i for i in desk.states() if i.state not in ("gone", "blocked")}
    if ref == (desk.home.branch or desk.home.ref):
        from everyshelf.desk.store import load_entries

        known = load_entries(desk.root)
        there = {p: e.content for p, e in known.items()}
        wholes = find_wholes(desk.root)
    else:
        artifacts = list(shelf.artifacts(ref, files=True))
        there = {a.path: a.content for a in artifacts}
        wholes = sorted({a.within for a in artifacts if a.within} | set(find_wholes(desk.root)))
    pairs: dict[str, _DeskPair] = {}
    for path in sorted(items.keys() | there.keys()):
        if (items[path].content if path in items else None) == there.get(path):
            continue
        whole = next((w for w in wholes if path.startswith(f"{w}/")), None)
        if whole is None:
            content = there.get(path)
            held = {path: content} if content is not None else {}
            pairs[path] = _DeskPair(path, items.get(path), held, _beside_at(path, there))
        elif whole not in pairs:
            inside = {p: c for p, c in there.items() if p.startswith(f"{whole}/")}
            item = next((i for p, i in items.items() if p.startswith(f"{whole}/")), None)
            pairs[whole] = _DeskPair(whole, item, inside)
    return list(pairs.values())


def _beside_at(path: str, there: dict[str, str]) -> dict[str, str]:
    from everyshelf.core.kinds.beside import belonging, may_have_beside

    if not may_have_beside(path):
        return {}
    folder, _, name = path.rpartition("/")
    siblings = {p.rpartition("/")[2]: c for p, c in there.items() if p.rpartition("/")[0] == folder}
    return {sibling: siblings[sibling] for sibling in belonging(name, siblings)}


def _desk_row(
    shelf: ShelfClient, desk: Desk, worker: Worker, scratch: Path, pair: _DeskPair, *, backwards: bool
) -> dict[str, Any]:
    path, item = pair.path, pair.item
    if item is None or not pair.contents:
        state = "added" if (not pair.contents) != backwards else "removed"
        kind = kind_on_desk(desk, item) if item else entry_kind(desk, next(iter(pair.contents)))
        return {
            "path": path,
            "state": state,
            "kind": kind,
            "effect": "alters",
            "headline": state,
            "findings": [],
            "effects": {"breaks": 0, "alters": 1, "cosmetic": 0},
            "counts": {},
            "note": "",
        }
    from everyshelf.cli.commands.files import files_beside

    beside = {name: scratch / "beside" / name for name in pair.beside}
    wanted = [(scratch / "old" / place, content) for place, content in pair.contents.items()]
    for old, content in (*wanted, *((beside[name], content) for name, content in pair.beside.items())):
        old.parent.mkdir(parents=True, exist_ok=True)
        desk.write_base(content, old, shelf)
    sides = [((path, scratch / "old" / path), beside), ((path, desk.root / path), files_beside(desk.root / path))]
    (before, near), (after, new_near) = reversed(sides) if backwards else sides
    rules = desk.root / "shelf.toml"
    text = rules.read_text(errors="replace") if rules.is_file() else ""
    found = worker.compare(before, after, rules_text=text, beside=(near, new_near))
    return {**found, "path": path, "state": "changed", "effect": None, "headline": found["note"]}


# --- printing --------------------------------------------------------------------


def _print(found: dict[str, Any], before: str, after: str) -> None:
    if "artifacts" not in found:
        name = found["path"].rpartition("/")[2]
        line = found["headline"][:1].upper() + found["headline"][1:]
        terminal.say(terminal.bold(line) + f"; {name} from {before} to {after}.")
        print_artifact(found, name, _versions(found), shown=500)
        _print_table(found)
        return
    terminal.say(terminal.bold(found["sentence"]))
    for row in found["artifacts"]:
        _print_row(row)
    first = next((a for a in found["artifacts"] if a["findings"]), None)
    if first is not None:
        import shlex

        terminal.next_step(f"everyshelf compare {before} {after} {shlex.quote(first['path'])}")


def _print_row(row: dict[str, Any]) -> None:
    name = row.get("name") or row["path"].rpartition("/")[2]
    if row["state"] in ("added", "removed"):
        terminal.row(row["state"], row["kind"], name, terminal.dim(row["path"]))
        return
    print_artifact({**row, "effects": row["effects"]}, name, _versions(row), shown=8)
    if "table" in row:
        print_table_line(row["table"])


def _versions(row: dict[str, Any]) -> str:
    sides = [(row.get(side) or {}).get("version") for side in ("before", "after")]
    return " → ".join(f"v{v}" for v in sides if v) if any(sides) else ""


def _print_table(found: dict[str, Any]) -> None:
    if "model" in found:
        print_measured(found["model"])
    for name, table in found.get("tables", {}).items():
        print_table_line(table, name)
        print_rows(table, _MOST_ROWS)
    if "table" not in found:
        return
    print_table_line(found["table"])
    print_rows(found["table"], _MOST_ROWS)


def _check(found: dict[str, Any], fail_on: str | None) -> None:
    effects = found["effects"]
    met = {"breaks": effects["breaks"], "alters": effects["breaks"] + effects["alters"], "any": sum(effects.values())}
    if fail_on is not None and met[fail_on]:
        raise FailOnMet(f"--fail-on {fail_on} was met")

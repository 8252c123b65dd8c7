"""What is really in an environment: where it differs, and bringing what was changed there into a draft.

An artifact with bindings is brought back by merging: the base is what was put in place, one side what is there now, the
other the artifact as it is on the shelf. So what was changed there comes along, and the names of the bindings stay.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from django.utils import timezone
from msgspec import UNSET

from everyshelf.core.answers.merges import ConflictAnswer
from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.content.ids import content_id
from everyshelf.core.errors import ConflictError, EveryShelfError, InvalidError
from everyshelf.core.history.names import distinct_names
from everyshelf.core.history.paths import check_path
from everyshelf.core.merge.model import Decision, Side, SideNames
from everyshelf.core.promotion.bindings import marks_in
from everyshelf.core.promotion.destination import Destination, Manifest
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store, get_trees, reader
from everyshelf.service.drafts.actions import Saving, save
from everyshelf.service.environments.actions.bindings import Values, bind
from everyshelf.service.environments.actions.found_before import is_committed, removed_there
from everyshelf.service.environments.actions.manifests import (
    LeftOut,
    Record,
    Row,
    aim_at_state,
    kind_there,
    last_deployment,
    load_record,
)
from everyshelf.service.environments.actions.places import destination_of
from everyshelf.service.environments.actions.settled import read_settled
from everyshelf.service.environments.models import Deployment, Environment
from everyshelf.service.log.actions import note, note_of
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.contents import take_in
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import get_branch, resolve
from everyshelf.service.shelves.models import Branch


@dataclass(frozen=True)
class _Look:
    """One look at an environment. ``changed``: paths that are not as the deployment in force left them, with what
    happened."""

    environment: Environment
    destination: Destination
    present: Manifest
    last: Deployment | None
    record: Record
    changed: dict[str, str] = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "changed", self._changed_there())

    def _changed_there(self) -> dict[str, str]:
        left_out, found = LeftOut(self.environment, self.destination), {}
        for path in sorted(self.present.keys() | self.record.keys()):
            there, row = self.present.get(path), self.record.get(path)
            if (there is not None and row is not None and row.is_at(there)) or left_out.has(path):
                continue
            if row is None and left_out.kinds and kind_there(self.destination, path) in left_out.kinds:
                continue
            found[path] = "removed there" if there is None else "added there" if row is None else "changed there"
        if self.last is None:
            gone = removed_there(self.environment, self.present)
            found |= {path: "removed there" for path in gone if not left_out.has(path)}
        return found

    def side_effects(self) -> list[str]:
        """Paths the destination changed by itself when the deployment in force was put in place."""
        left_out = LeftOut(self.environment, self.destination)
        side_effects = self.last.side_effects if self.last else []
        return [path for path in side_effects if path in self.present and not left_out.has(path)]


def _look(environment: Environment) -> _Look:
    """What is there, and what was put there."""
    destination, last = destination_of(environment), last_deployment(environment)
    record = load_record(last.manifest) if last else {}
    return _Look(environment, destination, destination.present(), last, record)


# --- drift -----------------------------------------------------------------------


def check_drift(environment: Environment) -> list[dict[str, Any]]:
    """Look now, and keep what was found with the environment."""
    try:
        look = read_settled(environment, lambda: _look(environment))
    except EveryShelfError as error:
        environment.drift_problem, environment.drift_checked = error.message[:500], timezone.now()
        environment.save(update_fields=["drift_problem", "drift_checked"])
        raise
    names = distinct_names(look.changed)
    found = [
        {"path": p, "name": names[p], "where": where, "by": look.present[p].by if p in look.present else ""}
        for p, where in look.changed.items()
    ]
    is_new = bool(found) and found != environment.drift
    environment.drift, environment.drift_checked, environment.drift_problem = found, timezone.now(), ""
    with one_act():
        environment.save(update_fields=["drift", "drift_checked", "drift_problem"])
        if is_new:
            paths = [row["path"] for row in found[:100]]
            note_of("the service", "environment.drifted", environment.name, environment.shelf, paths=paths)
    return found


def differences(environment: Environment, branch_name: str = "") -> dict[str, Any]:
    """Per artifact whether it differs there (from what was put in place), here (on the branch), or on both sides."""
    look = read_settled(environment, lambda: _look(environment))
    branch = get_branch(environment.shelf, branch_name or environment.fed_from or environment.shelf.main_branch)
    files = {p: e.id for p, e in get_trees().files(branch.head.root)} if branch.head is not None else {}
    there, side_effects = look.changed, set(look.side_effects())
    here = {p for p in files.keys() | look.record.keys() if files.get(p) != _source(look.record.get(p))}
    tried: set[str] = set()
    if look.last is None:
        there, here = _apart_at_first(look, branch, files)
    alike = _alike(look, branch, there.keys() & here, files) if look.last is not None else set()
    there, here = {path: where for path, where in there.items() if path not in alike}, here - alike
    if look.last is not None and look.last.root:
        tried = {p for p in here - there.keys() if _is_tried(branch, p, look.record.get(p))}
        here -= tried
    left_out = LeftOut(environment, look.destination)
    rows = []
    paths = [path for path in sorted(there.keys() | here | side_effects | tried) if not left_out.has(path)]
    names = distinct_names(paths)
    for path in paths:
        changed = path in there or path in side_effects or path in tried
        side = "both" if changed and path in here else "environment" if changed else "shelf"
        placed = look.present.get(path)
        rows.append(
            {
                "path": path,
                "name": names[path],
                "side": side,
                "where": there.get(path) or _where_else(path, side_effects, tried),
                "side_effects": path in side_effects,
                "by": placed.by if placed and changed else "",
            }
        )
    return {
        "environment": environment.name,
        "branch": branch.name,
        "deployment": look.last.number if look.last else None,
        "tag": look.last.tag.name if look.last else None,
        "artifacts": rows,
        "sentence": _sentence(environment, branch.name, rows, any_alike=bool(alike)),
    }


def _alike(look: _Look, branch: Branch, paths: set[str], files: dict[str, str]) -> set[str]:
    """Of paths that were changed on both sides those that say the same there and on the branch, as after capturing."""
    if branch.head is None or not paths:
        return set()
    aim = aim_at_state(look.destination, look.environment, branch.head, None, look.present)
    placed = {path: there.id for path, (_, there) in aim.put.items()}
    present = {path: there.id for path, there in look.present.items()}
    return {path for path in paths if (placed.get(path) if path in files else None) == present.get(path)}


TRIED = "tried from a draft"


def _where_else(path: str, side_effects: set[str], tried: set[str]) -> str:
    if path in side_effects:
        return "changed by the destination itself"
    return TRIED if path in tried else ""


def _is_tried(branch: Branch, path: str, row: Row | None) -> bool:
    """Whether what was put there came from a draft and is not committed: the branch has nothing newer then."""
    return row is not None and bool(row.source) and not is_committed(branch, path, row.source)


def _apart_at_first(look: _Look, branch: Branch, files: dict[str, str]) -> tuple[dict[str, str], set[str]]:
    """What was made there, and what the branch has newer, of an environment to which nothing was promoted."""
    placed: Manifest = {}
    if branch.head is not None:
        aim = aim_at_state(look.destination, look.environment, branch.head, None, look.present)
        placed = {path: there for path, (_, there) in aim.put.items()}
    there: dict[str, str] = {}
    here: set[str] = set()
    for path in sorted(look.present.keys() | files.keys() | look.changed.keys()):
        found, goal = look.present.get(path), placed.get(path)
        if found is None:
            if path in look.changed and path in files:
                there[path] = look.changed[path]
            elif path in files:
                here.add(path)
        elif goal is None or found.id != goal.id:
            is_older = path in files and is_committed(branch, path, found.id)
            if is_older:
                here.add(path)
            else:
                there[path] = "changed there" if path in files else "added there"
    return there, here


def _source(row: Row | None) -> str | None:
    return row.source or None if row is not None else None


def _sentence(environment: Environment, branch: str, rows: list[dict[str, Any]], *, any_alike: bool) -> str:
    counts = {side: sum(row["side"] == side for row in rows) for side in ("environment", "shelf", "both")}
    if not rows and any_alike:
        return f"What was changed in {environment.name} is on {branch} as well."
    if not rows:
        return f"{environment.name} holds what was put there, and {branch} has nothing newer."
    said = [
        f"{count_noun(counts['environment'], 'artifact')} changed in {environment.name}"
        if counts["environment"]
        else "",
        f"{count_noun(counts['shelf'], 'artifact')} changed on {branch}" if counts["shelf"] else "",
        f"{count_noun(counts['both'], 'artifact')} changed on both sides" if counts["both"] else "",
    ]
    return ", ".join(text for text in said if text) + "."


# --- bringing it back -----------------------------------------------------------------


def capture(
    caller: Caller,
    environment: Environment,
    branch_name: str = "",
    paths: list[str] | None = None,
    prefer: str | None = None,
) -> dict[str, Any]:
    """Save what was changed there into the caller's draft of a branch, side effects marked as such.

    What was changed on the branch as well is merged by meaning; what collides stays out and is told, unless ``prefer``
    ("environment" or "shelf") says which side to keep in conflicts.
    """
    require(caller, environment.shelf, "capture")
    branch = get_branch(environment.shelf, branch_name or environment.fed_from or environment.shelf.main_branch)
    state = resolve(environment.shelf, f"draft:{branch.name}", caller.person)
    here = {path: entry.id for path, entry in get_trees().files(state.root)}
    told, savings = read_settled(environment, lambda: _bring(environment, here, paths, prefer))
    with one_act():
        draft = save(caller, environment.shelf, branch.name, None, savings) if savings else None
        taken = [row["path"] for row in told if row["taken"]]
        note(caller, "environment.captured", environment.name, environment.shelf, branch=branch.name, paths=taken[:100])
    pending = len(draft["entries"]) if draft else 0
    return {"environment": environment.name, "branch": branch.name, "artifacts": told, "pending": pending}


def _bring(
    environment: Environment, here: dict[str, str], paths: list[str] | None, prefer: str | None
) -> tuple[list[dict[str, Any]], list[Saving]]:
    """What becomes of each artifact that was changed there, and what is to be saved of it."""
    look = _look(environment)
    side_effects = set(look.side_effects())
    wanted = {**dict.fromkeys(side_effects, "changed by the destination itself"), **look.changed}
    if paths is not None:
        unknown = sorted(set(paths) - wanted.keys())
        if unknown:
            raise InvalidError(
                f"{unknown[0]} was not changed in {environment.name}",
                code="capture.unchanged",
                hint=f"See everyshelf drift {environment.name}",
            )
        wanted = {path: wanted[path] for path in paths}
    if not wanted:
        raise ConflictError(f"nothing was changed in {environment.name}", code="capture.nothing", hint="")
    told, savings = [], []
    with TemporaryDirectory(dir=get_config().scratch, prefix="capture-") as folder:
        for path, where in sorted(wanted.items()):
            one = _Captured(look, Path(folder), prefer).bring(path, here.get(path))
            by = look.present[path].by if path in look.present else ""
            told.append(
                {
                    "path": path,
                    "where": where,
                    "side_effects": path in side_effects,
                    "message": one.message,
                    "taken": one.taken,
                    "by": by,
                }
            )
            if one.taken and one.content != here.get(path):
                savings.append(Saving(path, one.content, credit=_credit(environment, where, by)))
    return told, savings


def _credit(environment: Environment, where: str, by: str) -> str:
    """Who made a change, for the commit that it becomes: the person who captures it did not make it."""
    act = {"added there": "added", "removed there": "removed"}.get(where, "changed")
    return f"{act} in {environment.name} by {by}" if by else ""


@dataclass(frozen=True)
class _Outcome:
    content: str | None
    taken: bool
    message: str


class _Captured:
    """Brings one artifact from an environment."""

    def __init__(self, look: _Look, folder: Path, prefer: str | None) -> None:
        self._look, self._folder, self._prefer = look, folder, prefer
        self._shelf = look.environment.shelf
        self._rules = rules_at(look.last.commit.root) if look.last else None

    def bring(self, path: str, here: str | None) -> _Outcome:
        check_path(path)
        row = self._look.record.get(path)
        source = row.source if row is not None and row.source else None
        if path not in self._look.present:
            if here not in (None, source) and self._prefer != "environment":
                return _Outcome(
                    None,
                    False,
                    f"removed in {self._look.environment.name} and changed on the shelf; choose which to keep",
                )
            return _Outcome(None, True, "removed")
        there = self._folder / "there"
        with self._look.destination.as_file(path) as file:
            there.write_bytes(file.read_bytes())
        said = self._unbind(path, row, there)
        if source is None or here == source:
            return _Outcome(self._take(there), True, said or ("changed" if source else "added"))
        if here is None and self._prefer != "environment":
            return _Outcome(
                None, False, f"changed in {self._look.environment.name} and removed on the shelf; choose which to keep"
            )
        return self._merged(path, source, here, there, said) if here else _Outcome(self._take(there), True, said)

    def _merged(self, path: str, source: str, here: str, there: Path, said: str) -> _Outcome:
        prefers: dict[str | None, Side | None] = {"shelf": "target", "environment": "source", None: None}
        prefer = prefers[self._prefer]
        sides = self._kept("base", source), self._kept("here", here), there
        result = self._folder / "merged"
        with reader() as worker:
            rules = self._rules.source if self._rules else ""
            names = SideNames("on the shelf", f"in {self._look.environment.name}")
            answer = worker.merge(path, sides, result, rules=rules, prefer=prefer, names=names)
        if not answer.merged:
            conflict = next(c for c in answer.conflicts if c.decision is None)
            return _Outcome(None, False, f"conflict: {conflict.why}")
        return _Outcome(self._take(result), True, said or "merged with the changes on the shelf")

    def _unbind(self, path: str, row: Row | None, there: Path) -> str:
        """Put the names of bindings back where their values stand in ``there``."""
        values = Values(self._look.environment)
        if row is None or not row.there or not row.source or self._rules is None:
            there.write_bytes(values.masked(there.read_bytes()))
            return ""
        placed = bind(path, row.source, self._rules, values.plain).data
        if content_id(placed) not in (row.there, row.source) and not row.there.startswith("k:"):
            there.write_bytes(values.masked(there.read_bytes()))
            return (
                "its bindings have changed since the deployment; check that their names are still in the right places"
            )
        base, result = self._folder / "placed", self._folder / "unbound"
        base.write_bytes(placed)
        sides = base, there, self._kept("source", row.source)
        with reader() as worker:
            answer = worker.merge(path, sides, result, rules=self._rules.source)
            if not answer.merged:
                decisions, by_hand = self._names_back(answer.conflicts, values)
                source = self._rules.source
                worker.merge(path, sides, result, rules=source, decisions=decisions, prefer="source")
                said = f"; values set by hand there were not captured: {', '.join(by_hand)}" if by_hand else ""
                there.write_bytes(values.masked(result.read_bytes()))
                return f"changed{said}" if said else ""
        there.write_bytes(values.masked(result.read_bytes()))
        return ""

    @staticmethod
    def _names_back(conflicts: list[ConflictAnswer], values: Values) -> tuple[dict[str, Decision], list[str]]:
        """What becomes of a text that was changed there around the value of a binding: its name where the value was.
        Where the value itself was changed, the shelf's side is kept: the binding is to be changed, not the artifact."""
        decisions, by_hand = {}, []
        for conflict in conflicts:
            source = "" if conflict.source is UNSET else str(conflict.source)
            text, names = conflict.target, marks_in(source)
            for name in sorted(names, key=lambda n: -len(values.plain.get(n, ""))):
                value = values.plain.get(name, "")
                if isinstance(text, str) and value and value in text:
                    text = text.replace(value, f"${{{name}}}")
                    continue
                by_hand.append(name)
                break
            else:
                if names:
                    decisions[conflict.id] = Decision("edited", text)
                else:
                    by_hand.append(conflict.label)
        return decisions, by_hand

    def _kept(self, name: str, content: str) -> Path:
        file = self._folder / name
        with file.open("wb") as opened:
            opened.writelines(get_store().iter_range(content))
        return file

    def _take(self, file: Path) -> str:
        with file.open("rb") as opened:
            return str(take_in(self._shelf, iter(lambda: opened.read(1 << 20), b""), None).id)

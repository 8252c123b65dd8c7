"""Rehearsing: everything a promotion would do, by meaning, without touching anything."""

from __future__ import annotations

import statistics
import time
from contextlib import ExitStack
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import msgspec
from django.utils import timezone

from everyshelf.core.answers.base import as_json
from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.environments import PlannedArtifact
from everyshelf.core.answers.states import ArtifactState, ComparedArtifact
from everyshelf.core.answers.uses import NO_REFERENCES
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.sentences import EFFECT_ORDER, count_noun
from everyshelf.core.errors import ConflictError, InvalidError
from everyshelf.core.history.names import distinct_names, file_name
from everyshelf.core.history.trees import Entry
from everyshelf.core.outline.model import EFFECTS
from everyshelf.core.promotion.bindings import rules_for
from everyshelf.core.promotion.destination import Destination, Manifest
from everyshelf.core.promotion.rehearsal import Drift, Rehearsal, rehearse
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.report.document import Form, report_of_rehearsal, written
from everyshelf.core.uses.names import PathsOf, files_meant, is_missed, may_mean_file
from everyshelf.core.uses.places import NAMING_KINDS
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_trees, reader
from everyshelf.service.environments.actions.beside import MOST_FINDINGS, describe
from everyshelf.service.environments.actions.drifted import judged
from everyshelf.service.environments.actions.found_before import removed_there
from everyshelf.service.environments.actions.gates import drift_gate, gates_of, loss_gate
from everyshelf.service.environments.actions.manifests import (
    Aim,
    Record,
    aim_at_state,
    as_found,
    last_deployment,
)
from everyshelf.service.environments.actions.places import destination_of
from everyshelf.service.environments.actions.settled import read_settled
from everyshelf.service.environments.models import Environment, Phase
from everyshelf.service.shelves.actions.comparing import compare_pair
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.naming import names_of
from everyshelf.service.shelves.actions.pairs import Pairing
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.actions.users import add_users
from everyshelf.service.shelves.models import Tag

_BUDGET_SECONDS = 12.0
_MOST_LOOKED_AT = 500
_HIDDEN = "•••"


class Outlook:
    """One look at an environment and at what a tag would make of it."""

    def __init__(self, environment: Environment, tag: Tag) -> None:
        self.environment, self.tag = environment, tag
        self.destination: Destination = destination_of(environment)
        self.present: Manifest = self.destination.present()
        self.aim: Aim = aim_at_state(self.destination, environment, tag.commit, tag.selection, self.present)
        self.record: Record = self.aim.before
        self.plan: Rehearsal = plan_of(self.aim, self.present, self.record)
        self.drift: list[Drift] = judged(self.destination, self.aim, self.record, self.plan.drift)

    @property
    def lost(self) -> list[str]:
        """Paths of what was changed there and would be overwritten."""
        return [d.path for d in self.drift if d.lost]


def plan_of(aim: Aim, present: Manifest, record: Record) -> Rehearsal:
    """What would happen there. What the environment leaves out, and what the destination itself made, is neither drift
    nor removed."""
    stays = {p for p in aim.kept if p not in record or not record[p].source}
    there = {p: placed for p, placed in present.items() if p not in stays}
    wanted = {p: placed for p, placed in aim.manifest.items() if p not in stays}
    ours = {p: row for p, row in record.items() if p not in stays}
    known = as_found(ours, present)
    if last_deployment(aim.environment) is None:
        known |= {path: gone for path, gone in removed_there(aim.environment, there).items() if path in wanted}
    return rehearse(there, wanted, known)


def rehearse_tag(environment: Environment, tag: Tag) -> dict[str, Any]:
    """Everything a promotion would do, by meaning, without touching anything."""
    return read_settled(environment, lambda: _rehearsed(environment, tag))


def _rehearsed(environment: Environment, tag: Tag) -> dict[str, Any]:
    begun = time.monotonic()
    look = Outlook(environment, tag)
    plan, aim = look.plan, look.aim
    artifacts, complete = _artifacts(look)
    state = resolve(environment.shelf, f"tag:{tag.name}")
    add_users(environment.shelf, state, rules_at(state.root), {a.path: a.findings for a in artifacts})
    gates = gates_of(environment, tag)
    drift = drift_gate(environment, look.lost, agreed=False)
    if drift is not None:
        gates.append(drift)
    problems = [{"path": path, "message": said} for path, said in sorted(aim.problems.items())]
    try:
        loss = loss_gate([] if problems else aim.look_at_steps(look.destination, look.present), [])
        gates += [loss] if loss is not None else []
    except (ConflictError, InvalidError) as error:
        problems.append({"path": environment.name, "message": error.message})
    held = [gate for gate in gates if not gate.met]
    missing = [{"name": name, "artifacts": paths} for name, paths in sorted(aim.missing.items())]
    touched = _touched(plan)
    return {
        "environment": environment.name,
        "tag": tag.name,
        "commit": tag.commit.uid,
        "counts": counts_of(plan),
        "artifacts": sorted(artifacts, key=lambda a: (EFFECT_ORDER.get(a.effect, 4), a.path)),
        "complete": complete,
        "drift": [
            {
                "path": d.path,
                "name": file_name(d.path),
                "where": d.where,
                "lost": d.lost,
                "brought": d.brought,
                "by": d.by,
            }
            for d in look.drift
        ],
        "gates": [gate.as_json() for gate in gates],
        "missing_bindings": missing,
        "problems": problems,
        "steps": [step.as_json() for step in aim.steps],
        "needed": _needed(look),
        "left_out": len(aim.kept),
        "not_met": len(held) + len(missing) + len(problems),
        "bytes": sum(aim.manifest[p].size for p in plan.added + plan.changed),
        "expected_seconds": _expected(environment, len(touched)),
        "sentence": _sentence(look, len(held), len(missing), len(problems)),
        "rehearsed": timezone.now(),
        "took_seconds": round(time.monotonic() - begun, 2),
    }


def report_on(environment: Environment, tag: Tag, form: Form) -> str:
    """A rehearsal to keep or to send: HTML, Markdown or JSON."""
    found = rehearse_tag(environment, tag)
    if form == "json":
        return msgspec.json.format(as_json(found), indent=2).decode() + "\n"
    conditions = [(gate["met"], gate["gate"], gate["message"]) for gate in found["gates"]]
    for missing in found["missing_bindings"]:
        conditions.append((False, f"binding {missing['name']}", f"has no value; {', '.join(missing['artifacts'])}"))
    conditions += [(False, problem["path"], problem["message"]) for problem in found["problems"]]
    conditions += [(not d["lost"], f"drift of {d['path']}", _drift_said(d)) for d in found["drift"]]
    title = f"Rehearsal of tag:{tag.name} into {environment.name}, {environment.shelf.name}"
    none = [(True, "no gate", "all gates are met")]
    report = report_of_rehearsal(
        [_reported(artifact) for artifact in found["artifacts"]],
        title=title,
        made=found["rehearsed"],
        sentence=found["sentence"],
        same=found["counts"]["same"],
        conditions=conditions or none,
    )
    return written(report, form)


def _reported(planned: PlannedArtifact) -> ComparedArtifact:
    """An artifact of the plan as a report has it."""
    effect = planned.effect if planned.effect in EFFECTS else None
    states: dict[str, ArtifactState] = {"added": "new", "changed": "edited", "removed": "gone"}
    return ComparedArtifact(
        path=planned.path,
        old_path=planned.path,
        name=planned.name,
        state=states[planned.state],
        pending=False,
        kind=planned.kind,
        effect=effect,
        headline=planned.headline,
        counts={},
        effects={},
        judged=effect is not None,
        findings=planned.findings,
        read_as="",
        note="",
        truncated=len(planned.findings) == MOST_FINDINGS,
    )


def _drift_said(drift: dict[str, Any]) -> str:
    who = f" by {drift['by']}" if drift["by"] else ""
    becomes = "would be lost" if drift["lost"] else "the tag has it" if drift["brought"] else "stays"
    return f"{drift['where']}{who}; {becomes}"


def counts_of(plan: Rehearsal) -> dict[str, int]:
    """How many artifacts would be added, changed, removed, and stay."""
    found = {"added": plan.added, "changed": plan.changed, "removed": plan.removed, "same": plan.same}
    return {name: len(paths) for name, paths in found.items()}


def _touched(plan: Rehearsal) -> list[str]:
    return [*plan.removed, *plan.changed, *plan.added]


# --- artifact by artifact ---------------------------------------------------------


def _artifacts(look: Outlook) -> tuple[list[PlannedArtifact], bool]:
    """What would happen to each; those that could not be compared in the time of an answer say so."""
    end, complete = time.monotonic() + _BUDGET_SECONDS, True
    last = last_deployment(look.environment)
    in_force = last.commit if last else None
    artifacts = []
    names = distinct_names(_touched(look.plan))
    sides: dict[str, dict[str, str]] = {"new": {}, "old": {}}
    for path in _touched(look.plan):
        side = "new" if path in look.aim.put else "old"
        row = look.aim.put[path][0] if side == "new" else look.record.get(path)
        if row is not None and row.source:
            sides[side][path] = row.source
    versions = {
        **(versions_at(look.environment.shelf, in_force, sides["old"]) if in_force else {}),
        **versions_at(look.environment.shelf, look.tag.commit, sides["new"]),
    }
    for path in _touched(look.plan):
        before, after = look.present.get(path), look.aim.manifest.get(path)
        version = versions.get(path)
        planned = PlannedArtifact(
            path=path,
            name=names[path],
            state="added" if before is None else "removed" if after is None else "changed",
            effect="alters",
            kind=version.kind if version else "opaque",
            version=version.number if version else None,
            headline=count_noun(after.size, "byte") if after and not before else "",
            findings=[],
        )
        if before is not None and after is not None:
            if time.monotonic() < end:
                _compare(look, planned)
            else:
                planned.headline, complete = "not compared yet; rehearse again", False
        artifacts.append(planned)
    return artifacts, complete


def _compare(look: Outlook, planned: PlannedArtifact) -> None:
    found = _compare_there(look, planned.path)
    if found is None:
        planned.effect, planned.headline = "", "not compared here, it takes long: everyshelf compare shows it"
        return
    hidden = [f"${{{name}}}" for name in look.aim.values.secret]
    for finding in found.findings:
        # What a person put there by hand where a secret belongs may be one as well.
        for one, other in (("before", "after"), ("after", "before")):
            if any(name in str(getattr(finding, one)) for name in hidden) and getattr(finding, other) is not None:
                setattr(finding, other, _HIDDEN)
    describe(planned, found)


def _compare_there(look: Outlook, path: str) -> ComparisonAnswer | None:
    """What is really there with what would be; secrets are names on both sides. None if it takes too long."""
    before, (row, placed) = look.present[path], look.aim.put[path]
    was, rules = look.record.get(path), look.aim.rules
    untouched = was is not None and bool(was.source) and was.is_at(before)
    if untouched and was is not None and not was.there and not row.there:
        entries = Entry(path, "artifact", before.id, before.size), Entry(path, "artifact", placed.id, placed.size)
        return compare_pair(Pairing(path, path, *entries), rules, "request")
    with ExitStack() as stack:
        old = stack.enter_context(look.destination.as_file(path))
        if rules_for(path, rules):
            folder = Path(stack.enter_context(TemporaryDirectory(dir=get_config().scratch, prefix="rehearsal-")))
            new = folder / "after"
            new.write_bytes(look.aim.shown(path, row.source))
            (folder / "before").write_bytes(look.aim.values.masked(old.read_bytes()))
            old = folder / "before"
        else:
            new = stack.enter_context(as_file(row.source))
        with reader() as worker:
            return worker.compare(FileAt(path, str(old)), FileAt(path, str(new)), CompareOptions(rules))


def _needed(look: Outlook) -> list[dict[str, Any]]:
    """Artifacts that those to be put in place name, and that will not be there."""
    entries = dict(get_trees().walk(look.tag.commit.root))
    wanted = [p for p in (*look.plan.changed, *look.plan.added) if p in entries][:_MOST_LOOKED_AT]
    kinds = versions_at(look.environment.shelf, look.tag.commit, {p: entries[p].id for p in wanted})
    paths, end, found = PathsOf(entries), time.monotonic() + 2.0, []
    for path in wanted:
        if path not in kinds or kinds[path].kind not in NAMING_KINDS or entries[path].size > 1 << 20:
            continue
        told = names_of(path, entries[path], look.aim.rules, allowed=time.monotonic() < end)
        for named in (told or NO_REFERENCES).names:
            if named.what != "file" or named.writes:
                continue
            meant = files_meant(named, path, paths)
            absent = [target for target in meant if target not in look.aim.manifest]
            if absent:
                found.append({"artifact": path, "needs": absent[0], "on_shelf": True, "place": named.place})
            elif not meant and not may_mean_file(named, path) and is_missed(named):
                found.append({"artifact": path, "needs": named.text, "on_shelf": False, "place": named.place})
    return found[:200]


def _expected(environment: Environment, touched: int) -> float | None:
    """How long it will take, from what the last deployments took for each artifact they touched."""
    rows = environment.deployments.filter(state=Phase.RECORDED, took_seconds__isnull=False).order_by("-number")[:5]
    rates = []
    for row in rows:
        count = sum(row.counts.get(name, 0) for name in ("added", "changed", "removed"))
        rates.append((row.took_seconds or 0.0) / max(1, count))
    return round(statistics.median(rates) * max(1, touched), 2) if rates else None


def _sentence(look: Outlook, held: int, missing: int, problems: int) -> str:
    plan, name = look.plan, look.environment.name
    would = f"would add {len(plan.added)}, change {len(plan.changed)} and remove {len(plan.removed)}"
    if not _touched(plan):
        would = "would change nothing"
    holding = [
        f"{count_noun(count, what)} {state}"
        for count, what, state in (
            (held, "gate", "not met"),
            (missing, "binding", "without a value"),
            (problems, "artifact", "that cannot be deployed"),
        )
        if count
    ]
    parts = [f"tag:{look.tag.name} {would} in {name}"]
    if holding:
        parts.append(f"{', '.join(holding)}")
    return "; ".join(parts) + ". Nothing was changed."

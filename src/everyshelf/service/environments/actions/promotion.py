"""Rehearsing, promoting, rolling back, and what becomes of a promotion that was cut short.

The journal is the deployment's row: each phase is written before the next begins.

1. *planned*: the manifest is stored and the row exists; nothing was touched.
2. *staged*: everything lies aside, complete and durable.
3. *switched*: the destination's one atomic act is done.
4. *verified*: read back and equal to the manifest.
5. *recorded*: in force.

After a crash a promotion whose switch took place is finished; any other is undone.
"""

from __future__ import annotations

import contextlib
import time
import uuid
from collections.abc import Iterator
from datetime import datetime
from typing import Any

import structlog
from django.db import transaction
from django.db.models import Max
from django.utils import timezone

from everyshelf.core.compare.sentences import count_noun, effect_of, headline
from everyshelf.core.errors import BrokenError, ConflictError, EveryShelfError, InvalidError, RefusedError
from everyshelf.core.history import Entry
from everyshelf.core.promotion import FolderDestination, Manifest, Rehearsal, rehearse
from everyshelf.service.context import get_store, reader
from everyshelf.service.environments.actions.environments import (
    destination_of,
    earlier_environment,
    last_deployment,
    load_manifest,
    manifest_of_tag,
    recorded_manifest,
    store_manifest,
)
from everyshelf.service.environments.models import Deployment, Environment, Phase
from everyshelf.service.jobs.actions import Run
from everyshelf.service.log.actions import note, note_of
from everyshelf.service.people.rights import Caller, require
from everyshelf.service.shelves.actions.commits import rules_at
from everyshelf.service.shelves.actions.comparison import compare_contents
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.lineage import is_ancestor
from everyshelf.service.shelves.actions.listing import display_name, versions_at
from everyshelf.service.shelves.actions.refs import get_branch, get_tag, resolve
from everyshelf.service.shelves.actions.users import add_users
from everyshelf.service.shelves.models import Commit, Shelf, ShelfContent, Tag

log = structlog.get_logger("everyshelf.promotion")
_OPEN = (Phase.PLANNED, Phase.STAGED, Phase.SWITCHED, Phase.VERIFIED)


# --- rehearsal -------------------------------------------------------------------


def rehearse_tag(environment: Environment, tag: Tag) -> dict[str, Any]:
    """Everything a promotion would do, by meaning, without touching anything."""
    destination = destination_of(environment)
    present, recorded = destination.present(), recorded_manifest(environment)
    target = manifest_of_tag(tag, recorded)
    plan = rehearse(present, target, recorded)
    last = last_deployment(environment)
    in_force = last.commit if last else None
    findings = [
        _planned(environment.shelf, tag, in_force, destination, path, present, target) for path in _touched(plan)
    ]
    state = resolve(environment.shelf, f"tag:{tag.name}")
    add_users(environment.shelf, state, rules_at(state.root), {a["path"]: a["findings"] for a in findings})
    gates = gates_of(environment, tag)
    lost = [d for d in plan.drift if d.lost]
    holds = [g for g in gates if not g["met"]]
    return {
        "environment": environment.name,
        "tag": tag.name,
        "commit": tag.commit.uid,
        "counts": {
            "added": len(plan.added),
            "changed": len(plan.changed),
            "removed": len(plan.removed),
            "same": len(plan.same),
        },
        "artifacts": sorted(findings, key=lambda a: (_ORDER.get(a["effect"], 3), a["path"])),
        "drift": [{"path": d.path, "name": display_name(d.path), "where": d.where, "lost": d.lost} for d in plan.drift],
        "gates": gates,
        "holds": len(holds),
        "bytes": sum(target[p].size for p in plan.added + plan.changed),
        "sentence": _sentence(environment, tag, plan, len(holds), len(lost)),
        "rehearsed": timezone.now(),
    }


_ORDER = {"breaks": 0, "alters": 1, "cosmetic": 2}


def _touched(plan: Rehearsal) -> list[str]:
    return [*plan.removed, *plan.changed, *plan.added]


def _planned(
    shelf: Shelf,
    tag: Tag,
    in_force: Commit | None,
    destination: FolderDestination,
    path: str,
    present: Manifest,
    target: Manifest,
) -> dict[str, Any]:
    """One artifact that would be added, changed or removed; changed ones are compared with what is really there."""
    before, after = present.get(path), target.get(path)
    state = "added" if before is None else "removed" if after is None else "changed"
    commit, side = (tag.commit, after) if after else (in_force, before)
    version = versions_at(shelf, commit, {path: side.id}).get(path) if side else None
    result = {
        "path": path,
        "name": display_name(path),
        "state": state,
        "effect": "alters",
        "kind": version.kind if version else "opaque",
        "version": version.number if version else None,
        "headline": f"{count_noun(after.size, 'byte')}" if after and not before else "",
        "findings": [],
    }
    if before is None or after is None:
        return result
    found = _compare_there(shelf, tag, destination, path, before.id, before.size, after.id, after.size)
    return {
        **result,
        "effect": effect_of(found) or "cosmetic",
        "headline": headline(found),
        "kind": found["kind"],
        "findings": found["findings"][:20],
    }


def _compare_there(
    shelf: Shelf, tag: Tag, destination: FolderDestination, path: str, old: str, old_size: int, new: str, new_size: int
) -> dict[str, Any]:
    rules = rules_at(tag.commit.root)
    if ShelfContent.objects.filter(shelf=shelf, content=old).exists():
        found = compare_contents(
            path, Entry(path, "artifact", old, old_size), path, Entry(path, "artifact", new, new_size), rules
        )
        assert found is not None
        return found
    # Somebody changed it there: these bytes are on no shelf, so they are read where they are.
    with as_file(new) as file, reader() as worker:
        return worker.compare((path, destination.open(path)), (path, file), rules_text=rules.source)


def _sentence(environment: Environment, tag: Tag, plan: Rehearsal, holds: int, lost: int) -> str:
    would = f"would add {len(plan.added)}, change {len(plan.changed)} and remove {len(plan.removed)}"
    if not _touched(plan):
        would = "would change nothing"
    parts = [f"tag:{tag.name} {would} in {environment.name}"]
    if holds:
        parts.append(f"{count_noun(holds, 'gate')} hold{'s' if holds == 1 else ''} it")
    if lost:
        parts.append(f"{count_noun(lost, 'change')} made there would be lost")
    return "; ".join(parts) + "; nothing was touched."


def gates_of(environment: Environment, tag: Tag) -> list[dict[str, Any]]:
    """The conditions of this environment, met or not, with what would satisfy them."""
    gates = []
    if environment.fed_from:
        branch = get_branch(environment.shelf, environment.fed_from)
        met = branch.head is not None and is_ancestor(environment.shelf, tag.commit, branch.head)
        said = f"{tag.name} is on {branch.name}" if met else f"{tag.name} is not on {branch.name}; merge it there first"
        gates.append({"gate": f"from {branch.name}", "met": met, "said": said})
    earlier = earlier_environment(environment) if environment.earlier_first else None
    if earlier is not None:
        ran = earlier.deployments.filter(state=Phase.RECORDED, tag=tag).order_by("-number").first()
        said = f"ran in {earlier.name} since {ran.ended:%d %b %H:%M}" if ran else f"promote it to {earlier.name} first"
        gates.append({"gate": f"{earlier.name} first", "met": ran is not None, "said": said})
    return gates


# --- promotion -------------------------------------------------------------------


def check_promotion(caller: Caller, environment: Environment, tag: Tag, *, overwrite_drift: bool) -> None:
    """Raise ``RefusedError`` if a gate holds the tag, or drift would be lost that nobody agreed to lose."""
    require(caller, environment.shelf, "promote")
    held = [g for g in gates_of(environment, tag) if not g["met"]]
    if held:
        raise RefusedError(
            f"{held[0]['gate']} holds tag:{tag.name} back from {environment.name}",
            code="gate.held",
            hint=held[0]["said"],
            gates=held,
        )
    if not overwrite_drift:
        refuse_lost_drift(environment, manifest_of_tag(tag, recorded_manifest(environment)))


def refuse_lost_drift(environment: Environment, target: Manifest) -> None:
    """Raise ``RefusedError`` if putting ``target`` in place would overwrite what somebody changed there."""
    plan = rehearse(destination_of(environment).present(), target, recorded_manifest(environment))
    lost = [d.path for d in plan.drift if d.lost]
    if lost:
        raise RefusedError(
            f"{count_noun(len(lost), 'change')} made in {environment.name} would be lost: {', '.join(lost[:3])}",
            code="gate.drift",
            hint="Bring them onto the shelf first, or promote with --overwrite-drift.",
            paths=lost,
        )


def plan_promotion(
    caller: Caller,
    environment: Environment,
    tag: Tag,
    why: str,
    *,
    back_to: Deployment | None = None,
    request_key: str = "",
    at: datetime | None = None,
    who: str | None = None,
) -> Deployment:
    """Open the journal of a promotion. The same request key gives the deployment it gave before."""
    if (at is not None or who is not None) and not caller.may_import:
        raise RefusedError("only someone with the right to import sets time or person", code="rights.import")
    if request_key:
        known = environment.deployments.filter(request_key=request_key).first()
        if known is not None:
            return known
    recorded = recorded_manifest(environment)
    manifest = load_manifest(back_to.manifest) if back_to else manifest_of_tag(tag, recorded)
    identity = store_manifest(manifest)
    get_store().sync()
    with transaction.atomic():
        if environment.deployments.filter(state__in=_OPEN).exists():
            raise ConflictError(
                f"another promotion to {environment.name} is on its way",
                code="environment.busy",
                hint="Wait until it ends; see everyshelf env list.",
            )
        number = 1 + (environment.deployments.aggregate(last=Max("number"))["last"] or 0)
        said = f"tag:{tag.name} into {environment.name}"
        note(caller, "promotion.begun", said, environment.shelf, deployment=number, rolled_back=back_to is not None)
        return Deployment.objects.create(
            environment=environment,
            key=uuid.uuid4().hex,
            number=number,
            tag=tag,
            commit=tag.commit,
            manifest=identity,
            previous=last_deployment(environment),
            rolled_back_to=back_to,
            who=who or caller.person.username,
            why=why,
            begun=at or timezone.now(),
            request_key=request_key,
        )


def roll_back_target(environment: Environment, number: int | None) -> Deployment:
    """The deployment to go back to: the one named, or the newest before the one in force that put something else there.

    What is in force may itself be a return to an older deployment; then the search starts before that one, so that
    rolling back twice goes back two steps instead of to and fro.
    """
    rows = environment.deployments.filter(state=Phase.RECORDED).select_related("tag__commit", "rolled_back_to")
    if number is not None:
        found = rows.filter(number=number).first()
    else:
        current = rows.order_by("-number").first()
        while current is not None and current.rolled_back_to is not None:
            current = current.rolled_back_to
        older = rows.filter(number__lt=current.number).exclude(manifest=current.manifest) if current else rows
        found = older.order_by("-number").first()
    if found is None:
        raise InvalidError(
            f"{environment.name} has no earlier deployment to go back to",
            code="rollback.none",
            hint=f"See everyshelf env show {environment.name}",
        )
    return found


def carry_out(deployment: Deployment, run: Run | None = None) -> dict[str, Any]:
    """Take a planned promotion through its phases; undone and re-raised if anything fails before the switch."""
    environment = deployment.environment
    if deployment.state != Phase.PLANNED:
        raise ConflictError(
            f"promotion {deployment.number} was {deployment.state} meanwhile",
            code="job.interrupted",
            hint="Promote again.",
        )
    destination, manifest = destination_of(environment), load_manifest(deployment.manifest)
    start = time.monotonic()
    tell = run.progress if run is not None else (lambda done, total, note: None)
    try:
        deployment.counts = _counts(destination, manifest)
        destination.stage(deployment.key, manifest, _fetch, tell)
        tell(len(manifest), len(manifest), "switching")
        _enter(deployment, Phase.STAGED)
        if run is not None:
            run.no_more_cancel()
        destination.switch(deployment.key)
    except BaseException:
        _undo(deployment, destination)
        raise
    _enter(deployment, Phase.SWITCHED)
    return _finish(deployment, destination, manifest, start)


def _counts(destination: FolderDestination, manifest: Manifest) -> dict[str, int]:
    plan = rehearse(destination.present(), manifest, manifest)
    return {
        "added": len(plan.added),
        "changed": len(plan.changed),
        "removed": len(plan.removed),
        "same": len(plan.same),
    }


def _fetch(identity: str) -> Iterator[bytes]:
    return get_store().iter_range(identity)


def _enter(deployment: Deployment, phase: Phase) -> None:
    deployment.state = phase
    deployment.save(update_fields=["state", "counts"])


def _finish(
    deployment: Deployment, destination: FolderDestination, manifest: Manifest, start: float | None
) -> dict[str, Any]:
    wrong = destination.differences(deployment.key, manifest)
    if wrong:
        raise BrokenError(
            f"{deployment.environment.name} does not read back as it was put there: {wrong[0]}",
            code="promotion.unverified",
            hint="Look at the disk, then promote again.",
        )
    _enter(deployment, Phase.VERIFIED)
    now = timezone.now()
    deployment.took_seconds = time.monotonic() - start if start is not None else None
    imported = (now - deployment.begun).total_seconds() > 3600  # a promotion of the past ends in the past
    deployment.ended = deployment.begun if imported else now
    deployment.state = Phase.RECORDED
    with transaction.atomic():
        deployment.save(update_fields=["state", "ended", "took_seconds"])
        _note(deployment, "promotion.recorded")
    return {
        "deployment": deployment.key,
        "number": deployment.number,
        "counts": deployment.counts,
        "verified": len(manifest),
        "took_seconds": deployment.took_seconds,
    }


def _undo(deployment: Deployment, destination: FolderDestination) -> None:
    destination.undo(deployment.key)
    deployment.state, deployment.ended = Phase.UNDONE, timezone.now()
    with transaction.atomic():
        deployment.save(update_fields=["state", "ended"])
        _note(deployment, "promotion.undone")


def _note(deployment: Deployment, act: str) -> None:
    said = f"tag:{deployment.tag.name} into {deployment.environment.name}"
    note_of(deployment.who, act, said, deployment.environment.shelf, via="the service", deployment=deployment.number)


def finish_or_undo_all() -> None:
    """At start: every promotion a crash cut short is finished if it was switched, else undone."""
    rows = Deployment.objects.filter(state__in=_OPEN).select_related("environment__shelf", "tag", "commit")
    for deployment in rows.order_by("pk"):
        destination = destination_of(deployment.environment)
        with contextlib.suppress(EveryShelfError):
            if destination.current() == deployment.key:
                _finish(deployment, destination, load_manifest(deployment.manifest), None)
                log.info("finished after a restart", environment=deployment.environment.name, number=deployment.number)
            else:
                _undo(deployment, destination)
                log.info("undone after a restart", environment=deployment.environment.name, number=deployment.number)


def find_tag(shelf: Shelf, text: str) -> Tag:
    """A tag named ``NAME`` or ``tag:NAME``."""
    return get_tag(shelf, text.removeprefix("tag:"))

"""Promoting, rolling back, and what becomes of a promotion that was cut short.

The journal is the deployment's row: each phase is written before the next begins.

1. *planned*: the row exists; nothing was touched. Promotions to one environment wait for each other here.
2. *staged*: everything lies aside, complete and durable, and what will be there is stored.
3. *switching*: the destination's one atomic act was asked for; whether it took place is known to the destination only.
4. *switched*: it took place.
5. *verified*: read back and equal to what was wanted.
6. *recorded*: in force.

A promotion that failed or was cut short is finished if the destination says that its switch took place, else undone.
While a destination cannot be asked, its promotion stays in the phase it was in, and is asked about again.
"""

from __future__ import annotations

import shlex
import threading
import time
import uuid
from collections.abc import Callable
from datetime import datetime
from typing import Any, TypeVar

import structlog
from django.db.models import Max
from django.utils import timezone

from everyshelf.core.errors import (
    BrokenError,
    ConflictError,
    EveryShelfError,
    InvalidError,
    MissingError,
    OutOfReachError,
    RefusedError,
)
from everyshelf.core.promotion.destination import Destination, Manifest, Placed
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_store
from everyshelf.service.environments.actions.drifted import judged
from everyshelf.service.environments.actions.gates import Gate, drift_gate, gates_of, loss_gate
from everyshelf.service.environments.actions.manifests import (
    Aim,
    Record,
    Row,
    aim_at_deployment,
    aim_at_state,
    last_deployment,
    load_record,
    store_record,
)
from everyshelf.service.environments.actions.places import destination_of
from everyshelf.service.environments.actions.rehearsal import counts_of, plan_of
from everyshelf.service.environments.actions.settled import is_settled, quiet_since
from everyshelf.service.environments.models import Deployment, Environment, Phase
from everyshelf.service.jobs.actions import Run, run_now, start_job
from everyshelf.service.jobs.models import Job, State
from everyshelf.service.log.actions import note, note_of
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.refs import get_tag
from everyshelf.service.shelves.models import Shelf, Tag

log = structlog.get_logger("everyshelf.promotion")
_OPEN = (Phase.PLANNED, Phase.STAGED, Phase.SWITCHING, Phase.SWITCHED, Phase.VERIFIED)
_ASKED_AGAIN_AFTER = (0.2, 0.5, 1.0, 2.0)  # seconds
# Whoever waits for a turn and who looks after environments may ask about the same promotion at once.
_settling = threading.Lock()
T = TypeVar("T")


# --- whether it may ---------------------------------------------------------------


def check_promotion(
    caller: Caller,
    environment: Environment,
    tag: Tag,
    *,
    overwrite_drift: bool,
    force: bool,
    reason: str,
    lose: list[str],
) -> list[Gate]:
    """Raise ``RefusedError`` if a gate holds the tag and is not forced, or a binding has no value. Gives the gates
    that were forced; that takes the right to, and a reason."""
    require_promote(caller, environment)
    if force:
        require(caller, environment.shelf, "force a gate")
        if not reason.strip():
            raise InvalidError(
                "forcing a gate takes a reason",
                code="gate.reason",
                pointer="/reason",
                hint="Give a reason: --reason TEXT",
            )
    destination = destination_of(environment)

    def judge() -> list[Gate]:
        present = destination.present()
        aim = aim_at_state(destination, environment, tag.commit, tag.selection, present)
        return held_by(destination, environment, tag, aim, present, overwrite_drift=overwrite_drift, lose=lose)

    held = _judged_now(environment, judge, otherwise=lambda: gates_of(environment, tag))
    lost = [gate for gate in held if gate.id == "loss"]
    if held and not force:
        raise _refusal(environment, tag, held)
    if lost:
        raise _refusal(environment, tag, lost)  # nobody can force that: it is agreed to by name
    return held


def require_promote(caller: Caller, environment: Environment) -> None:
    """Who may put something there: keepers, and into a trial environment whoever made it."""
    own = environment.trial_of is not None and environment.made_by == caller.person.username
    require(caller, environment.shelf, "make trial environments" if own else "promote")


def held_by(
    destination: Destination,
    environment: Environment,
    tag: Tag,
    aim: Aim,
    present: Manifest,
    *,
    overwrite_drift: bool,
    lose: list[str],
    gates: bool = True,
) -> list[Gate]:
    """The gates that hold. What cannot be put in place at all raises ``RefusedError``."""
    refuse_unbound(aim)
    found = gates_of(environment, tag) if gates else []
    drifted = plan_of(aim, present, aim.before).drift
    lost = [d.path for d in judged(destination, aim, aim.before, drifted) if d.lost]
    drift = drift_gate(environment, lost, agreed=overwrite_drift)
    loss = loss_gate(aim.look_at_steps(destination, present), lose)
    return [gate for gate in (*found, drift, loss) if gate is not None and not gate.met]


def _judged_now(
    environment: Environment, judge: Callable[[], list[Gate]], otherwise: Callable[[], list[Gate]]
) -> list[Gate]:
    """The gates that hold, without those that go by what is there if it was changing while it was read: what another
    promotion puts there is nobody's drift, and what it takes away nobody's mistake. They are judged when this one's
    turn has come. ``otherwise``: the gates that go by the shelf alone."""
    quiet = quiet_since(environment)
    try:
        held = judge()
    except MissingError:
        if is_settled(environment, quiet):
            raise
        return [gate for gate in otherwise() if not gate.met]
    if is_settled(environment, quiet):
        return held
    return [gate for gate in held if gate.id not in ("drift", "loss")]


def refuse_unbound(aim: Aim) -> None:
    """Raise ``RefusedError`` where a binding has no value or cannot be put in: nobody can force that."""
    name = aim.environment.name
    for binding, paths in sorted(aim.missing.items()):
        raise RefusedError(
            f"the binding {binding} of {paths[0]} has no value in {name}",
            code="binding.missing",
            hint=f"Set it: everyshelf env bind {name} {binding}=VALUE",
            bindings=sorted(aim.missing),
        )
    for path, said in sorted(aim.problems.items()):
        raise RefusedError(said, code="promotion.unfit", hint=f"Look at {path}, and at shelf.toml, [bindings].")


def _refusal(environment: Environment, tag: Tag, held: list[Gate], *, back: bool = False) -> RefusedError:
    first = held[0]
    command = f"rollback {environment.name}" if back else f"promote tag:{tag.name} {environment.name}"
    if first.id == "loss":
        agreeing = " ".join(f"--lose {shlex.quote(name)}" for name in first.names)
        return RefusedError(
            first.message.partition("; agree")[0],
            code="gate.loss",
            lost=list(first.names),
            hint=f"Agree by name: everyshelf {command} {agreeing}",
            gates=[gate.as_json() for gate in held],
        )
    if first.id == "drift":
        return RefusedError(
            first.message.partition(";")[0],
            code="gate.drift",
            hint=f"Capture these changes: everyshelf drift {environment.name} --capture\n"
            f"Or overwrite them: everyshelf {command} --overwrite-drift",
            gates=[gate.as_json() for gate in held],
        )
    return RefusedError(
        f"cannot promote tag:{tag.name} to {environment.name}: "
        + "; ".join(f"{gate.gate} not met ({gate.message})" for gate in held),
        code="gate.not_met",
        hint=f"everyshelf rehearse tag:{tag.name} {environment.name} shows what each gate needs.",
        gates=[gate.as_json() for gate in held],
    )


# --- planning ---------------------------------------------------------------------


def plan_promotion(
    caller: Caller,
    environment: Environment,
    tag: Tag,
    reason: str,
    *,
    back_to: Deployment | None = None,
    root: str = "",
    overwrite_drift: bool = False,
    lose: list[str] | None = None,
    forced: list[Gate] | None = None,
    request_key: str = "",
    at: datetime | None = None,
    who: str | None = None,
) -> Deployment:
    """Open the journal of a promotion, and the job that carries it out. The same request key gives the deployment it
    gave before."""
    if (at is not None or who is not None) and not caller.may_import:
        raise RefusedError("only someone with the right to import sets time or person", code="rights.import")
    with one_act():
        known = find_by_key(environment, request_key)
        if known is not None:
            return known
        number = 1 + (environment.deployments.aggregate(last=Max("number"))["last"] or 0)
        said = f"tag:{tag.name} into {environment.name}"
        gates = [gate.as_json() for gate in forced or []]
        extra = {"forced": [g["gate"] for g in gates], "reason": reason} if gates else {}
        act = "promotion.forced" if gates else "promotion.begun"
        note(caller, act, said, environment.shelf, deployment=number, rolled_back=back_to is not None, **extra)
        planned = Deployment.objects.create(
            environment=environment,
            key=uuid.uuid4().hex,
            number=number,
            tag=tag,
            commit=back_to.commit if back_to else tag.commit,
            rolled_back_to=back_to,
            root=root,
            overwrite_drift=overwrite_drift,
            lose=lose or [],
            forced=gates,
            who=who or caller.person.username,
            reason=reason,
            begun=at or timezone.now(),
            request_key=request_key,
        )
        start_job(caller, "promote", environment.shelf, _parameters(planned))
        return planned


def job_of(deployment: Deployment) -> Job:
    """The job that carries it out."""
    return Job.objects.get(kind="promote", parameters=_parameters(deployment))


def _parameters(deployment: Deployment) -> dict[str, str]:
    return {"deployment": deployment.key}


def find_by_key(environment: Environment, request_key: str) -> Deployment | None:
    """The deployment an earlier request with this key began."""
    return environment.deployments.filter(request_key=request_key).first() if request_key else None


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


def check_roll_back(
    caller: Caller, environment: Environment, target: Deployment, *, overwrite_drift: bool, lose: list[str]
) -> None:
    """Raise ``RefusedError`` if anything there would be lost unasked. No other gate holds a way back."""
    require_promote(caller, environment)
    destination = destination_of(environment)

    def judge() -> list[Gate]:
        present = destination.present()
        aim = aim_at_deployment(destination, target, present)
        return held_by(
            destination,
            environment,
            target.tag,
            aim,
            present,
            gates=False,
            overwrite_drift=overwrite_drift,
            lose=lose,
        )

    held = _judged_now(environment, judge, otherwise=list)
    if held:
        raise _refusal(environment, target.tag, held, back=True)


# --- putting in place ---------------------------------------------------------------


def carry_out(deployment: Deployment, run: Run | None = None) -> dict[str, Any]:
    """Take a planned promotion through its phases; undone and re-raised if anything fails before the switch."""
    environment = deployment.environment
    if deployment.state != Phase.PLANNED:
        raise ConflictError(
            f"promotion {deployment.number} was {deployment.state} meanwhile",
            code="job.interrupted",
            hint="Promote again.",
        )
    tell = run.progress if run is not None else (lambda done, total, note: None)
    start = time.monotonic()
    try:
        _wait_for_turn(deployment, tell)
        destination = destination_of(environment)
        aim, present = _aim_now(deployment, destination)
        _stage(deployment, destination, aim, present, tell)
        if run is not None:
            run.no_more_cancel()
        tell(len(aim.manifest), len(aim.manifest), "switching")
    except BaseException:
        try:
            _undo(deployment)
        except EveryShelfError as error:
            log.warning("a promotion is not undone yet", environment=environment.name, reason=error.message)
        raise
    _enter(deployment, Phase.SWITCHING)
    _switch(deployment, destination)
    return _finish(deployment, destination, aim.manifest, start)


def _wait_for_turn(deployment: Deployment, tell: Any) -> None:
    """Promotions to one environment take place one after the other, in the order in which they were asked for."""
    rows = Deployment.objects.filter(
        environment=deployment.environment_id, number__lt=deployment.number, state__in=_OPEN
    )
    while (before := rows.order_by("number").first()) is not None:
        job = Job.objects.filter(kind="promote", parameters=_parameters(before)).first()
        if job is not None and job.state == State.WAITING:
            run_now(job.uid)  # it is to come first, and nobody else may be free to carry it out
        elif job is None or job.state != State.RUNNING:
            _ask_again(before)
        tell(0, 0, f"waits for deployment {before.number} to {deployment.environment.name}")
        time.sleep(0.3)


def _aim_now(deployment: Deployment, destination: Destination) -> tuple[Aim, Manifest]:
    """What is to be there, as things are now that its turn has come; refused if a gate holds it by now."""
    environment, back = deployment.environment, deployment.rolled_back_to
    present = destination.present()
    if back is not None:
        aim = aim_at_deployment(destination, back, present)
    else:
        selection = None if deployment.root else deployment.tag.selection
        aim = aim_at_state(destination, environment, deployment.commit, selection, present, root=deployment.root)
    known = {gate["id"] for gate in deployment.forced}
    held = held_by(
        destination,
        environment,
        deployment.tag,
        aim,
        present,
        overwrite_drift=deployment.overwrite_drift,
        lose=deployment.lose,
        gates=back is None and not deployment.root,
    )
    left = [gate for gate in held if gate.id not in known]
    if left:
        raise _refusal(environment, deployment.tag, left, back=back is not None)
    return aim, present


def _stage(deployment: Deployment, destination: Destination, aim: Aim, present: Manifest, tell: Any) -> None:
    deployment.counts = counts_of(plan_of(aim, present, aim.before))
    deployment.previous = last_deployment(deployment.environment)
    deployment.manifest = store_record(aim.record)
    get_store().sync()
    deployment.steps = [step.as_json() for step in aim.steps]
    deployment.save(update_fields=["counts", "previous", "manifest", "steps"])
    destination.stage(deployment.key, present, aim.manifest, lambda path: aim.bytes_of(path, destination), tell)
    _enter(deployment, Phase.STAGED)


def _switch(deployment: Deployment, destination: Destination) -> None:
    """Ask for the switch; whatever the answer was, the destination tells what came of it."""
    try:
        destination.switch(deployment.key)
    except EveryShelfError as error:
        if not _took_place(deployment, destination) and _undo(deployment):
            raise error
    _enter(deployment, Phase.SWITCHED)


def _took_place(deployment: Deployment, destination: Destination) -> bool:
    return _insist(deployment, lambda: destination.settle(deployment.key), "it is in force")


def _insist(deployment: Deployment, ask: Callable[[], T], what: str) -> T:
    """Ask a destination that may be out of reach for a moment; raises ``OutOfReachError`` if it is for longer."""
    for pause in (*_ASKED_AGAIN_AFTER, None):
        try:
            return ask()
        except OutOfReachError as error:
            if pause is None:
                name = deployment.environment.name
                raise OutOfReachError(
                    f"whether {what} is not known of deployment {deployment.number} of {name}: {error.message}",
                    code="promotion.unsettled",
                    hint=f"It is finished or undone as soon as {name} answers.",
                ) from error
            time.sleep(pause)
    raise AssertionError("the loop returns or raises")


def _enter(deployment: Deployment, phase: Phase) -> None:
    deployment.state = phase
    with one_act():
        deployment.save(update_fields=["state"])
        _note(deployment, "promotion.phase", phase=str(phase))


def _finish(
    deployment: Deployment, destination: Destination, manifest: Manifest, start: float | None
) -> dict[str, Any]:
    """Read back and record. What is not there as it was put there is recorded too, and told."""
    ours = _written(deployment)
    wrong = _insist(deployment, lambda: destination.differences(deployment.key, manifest, ours), "all of it is there")
    if wrong:
        _tell_apart(deployment, destination, wrong)
    _enter(deployment, Phase.VERIFIED)
    now = timezone.now()
    deployment.took_seconds = time.monotonic() - start if start is not None else None
    imported = (now - deployment.begun).total_seconds() > 3600  # a promotion of the past ends in the past
    deployment.ended = deployment.begun if imported else now
    deployment.state = Phase.RECORDED
    with one_act():
        deployment.save()
        _note(deployment, "promotion.recorded")
    if deployment.unverified:
        raise BrokenError(
            f"{deployment.environment.name} does not read back as it was put there: {deployment.unverified[0]}",
            code="promotion.unverified",
            hint="See what differs (everyshelf drift), then promote again.",
        )
    return {
        "deployment": deployment.key,
        "number": deployment.number,
        "counts": deployment.counts,
        "steps": deployment.steps,
        "side_effects": deployment.side_effects,
        "verified": len(manifest),
        "took_seconds": deployment.took_seconds,
    }


def _written(deployment: Deployment) -> set[str]:
    return {path for path, row in load_record(deployment.manifest).items() if row.put}


def _tell_apart(deployment: Deployment, destination: Destination, wrong: list[str]) -> None:
    """A platform may change more than it was given; that is recorded as its doing. Anything else was put there, and is
    not there."""
    ours = _written(deployment)
    side_effects = [path for path in wrong if path not in ours] if destination.changes_besides else []
    present, record = destination.present(), load_record(deployment.manifest)
    for path in side_effects:
        there, row = present.get(path), record.get(path)
        if there is not None:
            record[path] = Row(row.source if row else "", there.size, there.id)
    deployment.side_effects, deployment.unverified = side_effects, [path for path in wrong if path not in side_effects]
    deployment.manifest = store_record(record)
    get_store().sync()


def _undo(deployment: Deployment) -> bool:
    """Take back what was staged. False if the destination switched after all: then there is nothing to undo."""
    if deployment.manifest:  # else nothing was brought there
        destination = destination_of(deployment.environment)
        destination.undo(deployment.key)
        if deployment.state == Phase.SWITCHING and destination.current() == deployment.key:
            return False
    deployment.state, deployment.ended = Phase.UNDONE, timezone.now()
    with one_act():
        deployment.save(update_fields=["state", "ended"])
        _note(deployment, "promotion.undone")
    return True


def _note(deployment: Deployment, act: str, **more: str) -> None:
    said = f"tag:{deployment.tag.name} into {deployment.environment.name}"
    shelf = deployment.environment.shelf
    note_of(deployment.who, act, said, shelf, via="the service", deployment=deployment.number, **more)


# --- after a crash --------------------------------------------------------------------


def finish_or_undo_all() -> None:
    """At start: every promotion a crash cut short is finished if it was switched, else undone. One whose destination
    does not answer is asked about again later; one that only waits for its turn goes on waiting."""
    rows = Deployment.objects.filter(state__in=_OPEN).select_related("environment__shelf", "tag", "commit")
    waiting = _waiting_for_turn()
    for deployment in rows.order_by("pk"):
        if deployment.key not in waiting:
            _ask_again(deployment)


def _waiting_for_turn() -> set[str]:
    rows = Job.objects.filter(kind="promote", state=State.WAITING).values_list("parameters", flat=True)
    return {parameters["deployment"] for parameters in rows}


def ask_about_unsettled() -> None:
    """Ask again about promotions whose outcome is not known, and nobody is at work on."""
    rows = Deployment.objects.filter(state__in=_OPEN).select_related("environment__shelf", "tag", "commit")
    for deployment in rows.order_by("pk"):
        jobs = Job.objects.filter(kind="promote", parameters=_parameters(deployment))
        if not jobs.filter(state__in=(State.WAITING, State.RUNNING)).exists():
            _ask_again(deployment)


def _ask_again(deployment: Deployment) -> None:
    environment = deployment.environment
    with _settling:
        deployment.refresh_from_db()
        if deployment.state not in _OPEN:
            return
        try:
            destination = destination_of(environment)
            staged = deployment.state != Phase.PLANNED
            if (staged and destination.settle(deployment.key)) or not _undo(deployment):
                wanted = _wanted(load_record(deployment.manifest), destination.present())
                _finish(deployment, destination, wanted, None)
                log.info("finished after it was cut short", environment=environment.name, number=deployment.number)
            else:
                log.info("undone after it was cut short", environment=environment.name, number=deployment.number)
        except EveryShelfError as error:
            log.warning("a promotion is not settled", environment=environment.name, reason=error.message)


def _wanted(record: Record, present: Manifest) -> Manifest:
    """What a record says should be there, and beside it what it says nothing of."""
    found = {path: there for path, there in present.items() if path not in record}
    for path, row in record.items():
        there = present.get(path)
        agrees = there is not None and row.is_at(there)
        found[path] = there if agrees and there is not None else Placed(row.there or row.source, row.size)
    return found


def find_tag(shelf: Shelf, text: str) -> Tag:
    """A tag named ``NAME`` or ``tag:NAME``."""
    return get_tag(shelf, text.removeprefix("tag:"))

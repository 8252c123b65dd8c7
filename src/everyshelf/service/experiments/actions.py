"""Beginning experiments, recording their runs, comparing them, and what becomes of it."""

from __future__ import annotations

import functools
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

import orjson
from django.db import IntegrityError
from django.utils import timezone

from everyshelf.core.errors import ConflictError, InvalidError, MissingError, UnreadableError
from everyshelf.core.history.names import file_name
from everyshelf.core.history.naming import suggested_name
from everyshelf.core.history.paths import check_path
from everyshelf.core.runs.comparing import RunRow, answer_so_far, compare_runs
from everyshelf.core.runs.metrics import MOST_METRICS, MOST_POINTS, Measured, number_of
from everyshelf.core.runs.thinning import thinned
from everyshelf.service.base.acts import as_now, one_act
from everyshelf.service.base.context import get_store, get_trees, reader
from everyshelf.service.base.paging import as_page, named, open_first
from everyshelf.service.experiments.models import Experiment, Run
from everyshelf.service.log.actions import note
from everyshelf.service.proposals.actions.proposals import open_proposal, up_to_date
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.branches import make_branch
from everyshelf.service.shelves.actions.contents import as_file
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import get_branch, resolve
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.models import Commit, Shelf

_KEY = re.compile(r"[a-z0-9]+(-[a-z0-9]+)*\Z")
_MOST_MEASURED_BYTES = 64 * 1024 * 1024
_MOST_READS = 2000
_DRAWN_POINTS = 400
_MOST_ANSWERS = 500


def begin(
    caller: Caller,
    shelf: Shelf,
    question: str,
    *,
    key: str = "",
    branch: str = "",
    start: str = "",
    target: str = "",
    primary: str = "",
) -> Experiment:
    """A question to be tried on ``branch``, which is made from ``start`` if it is not there yet."""
    require(caller, shelf, "experiment")
    question = " ".join(question.split())
    if not question or len(question) > 300:
        raise InvalidError(
            "an experiment asks a question of up to 300 characters",
            code="experiment.question",
            pointer="/question",
            hint='Ask one: everyshelf experiment begin "Does …?"',
        )
    key = key or suggest_key(shelf, question)
    if not _KEY.match(key) or len(key) > 60:
        raise InvalidError(
            f"{key!r} cannot be the key of an experiment",
            code="experiment.key",
            pointer="/key",
            hint="Use lower-case letters, digits and single dashes, up to 60.",
        )
    goal = get_branch(shelf, target or shelf.main_branch)
    name = branch or f"{caller.person.username}/{key}"
    try:
        with one_act():
            if not shelf.branches.filter(name=name).exists():
                make_branch(caller, shelf, name, start or goal.name, question)
            made = Experiment.objects.create(
                shelf=shelf,
                key=key,
                question=question,
                branch=name,
                target=goal.name,
                primary=primary,
                created=timezone.now(),
                created_by=caller.person,
            )
            note(caller, "experiment.begun", key, shelf, question=question, branch=name)
    except IntegrityError as error:
        raise ConflictError(
            f"there is an experiment {key!r} already", code="experiment.taken", hint="Choose another --key."
        ) from error
    return made


def suggest_key(shelf: Shelf, question: str) -> str:
    """A short key made of the words of a question that say something, not taken yet."""
    taken = set(shelf.experiments.values_list("key", flat=True))
    return suggested_name(question, "experiment", taken)


def get_experiment(shelf: Shelf, key: str) -> Experiment:
    """The experiment of that key."""
    rows = shelf.experiments.select_related("shelf", "created_by", "closed_by", "proposal__shelf")
    found = rows.filter(key=key).first()
    if found is None:
        raise MissingError(
            f"{shelf.name} has no experiment {key!r}",
            code="experiment.missing",
            hint="List: everyshelf experiment list",
        )
    return found


def change(caller: Caller, experiment: Experiment, *, question: str | None = None, primary: str | None = None) -> None:
    """Word the question better, or say which metric answers it."""
    require(caller, experiment.shelf, "experiment")
    if question is not None:
        if not question.strip() or len(question) > 300:
            raise InvalidError("an experiment asks a question of up to 300 characters", code="experiment.question")
        experiment.question = " ".join(question.split())
    if primary is not None:
        experiment.primary = primary
    said = {"question": question, "primary": primary}
    with one_act():
        # Only what was said: another person may have changed the other one since it was read.
        experiment.save(update_fields=[name for name, value in said.items() if value is not None])
        note(caller, "experiment.changed", experiment.key, experiment.shelf)


# --- runs ---------------------------------------------------------------------------------


@dataclass(frozen=True)
class RunGiven:
    """What is told about a run. ``reads``: paths, as they were at ``base``. Metrics also come from the files that
    ``shelf.toml`` names, as they are at ``commit``; what is given here counts more."""

    branch: str
    commit: str
    base: str = ""
    reads: list[str] = field(default_factory=list)
    parameters: Mapping[str, Any] = field(default_factory=dict)
    metrics: Mapping[str, Any] = field(default_factory=dict)
    series: Mapping[str, Any] = field(default_factory=dict)
    command: str = ""
    state: str = "done"
    exit_code: int | None = None
    note: str = ""
    began: datetime | None = None
    took_seconds: float | None = None


def record_run(caller: Caller, experiment: Experiment, given: RunGiven) -> Run:
    """Record a run, tied to the commit that holds what it wrote and to the versions it read."""
    shelf = experiment.shelf
    require(caller, shelf, "experiment")
    _check_open(experiment)
    commit = _commit(shelf, given.commit)
    base = _commit(shelf, given.base) if given.base else commit
    measured, problems = _measured(commit, base) if given.state == "done" else (Measured(), [])
    measured.take(_given_measured(given))
    measured.completed()
    courses = {name: len(points) for name, points in measured.series.items()}
    series = get_store().put(orjson.dumps(measured.series)).id if courses else ""
    if series:
        get_store().sync()
    said = "; ".join(text for text in (given.note, *problems) if text)
    with one_act():
        experiment.refresh_from_db(fields=["runs_made", "state"])
        _check_open(experiment)
        experiment.runs_made += 1
        experiment.save(update_fields=["runs_made"])
        note(caller, "experiment.run", f"{experiment.key} run {experiment.runs_made}", shelf, commit=commit.uid)
        return Run.objects.create(
            experiment=experiment,
            number=experiment.runs_made,
            branch=given.branch,
            base=base,
            commit=commit,
            reads=_reads(shelf, base, given.reads),
            parameters=_plain_parameters(given.parameters),
            metrics=measured.metrics,
            series=series,
            courses=courses,
            command=given.command[:20_000],
            state=given.state,
            exit_code=given.exit_code,
            note=said[:500],
            began=given.began or timezone.now(),
            took_seconds=given.took_seconds,
            person=caller.person,
        )


def _commit(shelf: Shelf, uid: str) -> Commit:
    found = resolve(shelf, f"commit:{uid}").commit
    assert found is not None
    return found


def _measured(commit: Commit, base: Commit) -> tuple[Measured, list[str]]:
    """What the files that ``shelf.toml`` names say, of those that the run wrote; else of all of them."""
    rules, trees = rules_at(commit.root), get_trees()
    found = Measured()
    problems: list[str] = []
    if not rules.measured:
        return found, problems
    files = {p: e for p, e in trees.files(commit.root) if rules.is_measured(p)}
    written = {c.path for c in trees.changes(base.root, commit.root) if c.after is not None}
    for path, entry in sorted(files.items()):
        if written & files.keys() and path not in written:
            continue
        if entry.size > _MOST_MEASURED_BYTES:
            problems.append(f"{path}: too large to be read for metrics")
            continue
        try:
            with as_file(entry.id) as file, reader() as worker:
                found.take(worker.measured(path, file))
        except UnreadableError as error:
            problems.append(str(error))
    return found, problems


def _given_measured(given: RunGiven) -> Measured:
    found = Measured()
    for name, value in given.metrics.items():
        number = number_of(value)
        if number is None:
            raise InvalidError(f"the metric {name!r} is not a finite number: {value!r}"[:200], code="run.metric")
        found.metrics[str(name)[:200]] = number
    for name, points in given.series.items():
        try:
            found.series[str(name)[:200]] = [(float(x), float(y)) for x, y in points]
        except (TypeError, ValueError) as error:
            raise InvalidError(
                f"the course {name!r} is not a list of [step, value]"[:200], code="run.series", pointer="/series"
            ) from error
    if len(found.metrics) > MOST_METRICS or sum(map(len, found.series.values())) > MOST_POINTS:
        raise InvalidError(f"more than {MOST_METRICS} metrics or {MOST_POINTS} points", code="run.too_large")
    return found


def _plain_parameters(parameters: Mapping[str, Any]) -> dict[str, Any]:
    """Numbers as numbers, the rest as it was written."""
    found: dict[str, Any] = {}
    for name, given in parameters.items():
        value = orjson.dumps(given).decode() if isinstance(given, dict | list) else given
        number = number_of(value) if isinstance(value, str) and not value.strip().startswith("0x") else None
        found[str(name)[:200]] = _whole(number) if number is not None else value
    return found


def _whole(number: float) -> float | int:
    return int(number) if number.is_integer() and abs(number) < 2**53 else number


def _reads(shelf: Shelf, base: Commit, paths: list[str]) -> dict[str, Any]:
    trees, found = get_trees(), {}
    if len(paths) > _MOST_READS:
        raise InvalidError(f"a run reads at most {_MOST_READS} artifacts", code="run.too_large", pointer="/reads")
    entries = {}
    for given in dict.fromkeys(paths):
        above = trees.whole_above(base.root, check_path(given))
        path, entry = above if above is not None else (given, trees.find(base.root, given))
        if entry is not None and entry.type != "folder":
            entries[path] = entry
    versions = versions_at(shelf, base, {p: e.id for p, e in entries.items()})
    for path, entry in sorted(entries.items()):
        version = versions.get(path)
        found[path] = {
            "name": file_name(path),
            "artifact": version.artifact.uid if version else None,
            "version": version.number if version else None,
            "kind": version.kind if version else "opaque",
            "content": entry.id,
        }
    return found


# --- looking ------------------------------------------------------------------------------


def list_experiments(
    shelf: Shelf, words: str = "", *, state: str = "all", branch: str = "", limit: int, cursor: str = ""
) -> dict[str, Any]:
    """A page of the experiments in a state or on a branch, with ``words`` in their questions, keys or branches.

    Each has what its runs say so far; open ones come first, of each the newest. ``open``: how many of all are open.
    """
    rows = shelf.experiments.select_related("shelf", "created_by", "closed_by", "proposal__shelf")
    rows = named(rows, words, ("question", "key", "branch"))
    if branch:
        rows = rows.filter(branch=branch)
    page = open_first(rows if state == "all" else rows.filter(state=state), limit=limit, cursor=cursor)
    roots = _roots(shelf, {name for one in page.records for name in (one.target, one.branch)})
    told = []
    for one in page.records:
        answer = _answer(one.pk, one.runs_made, one.primary, roots.get(one.target, ""), roots.get(one.branch, ""))
        told.append({**experiment_json(one), "answer": answer})
    return {**as_page(page, told), "open": rows.filter(state="open").count()}


def _roots(shelf: Shelf, branches: Collection[str]) -> dict[str, str]:
    """The states at the heads of branches, by name."""
    return dict(shelf.branches.filter(name__in=branches, head__isnull=False).values_list("name", "head__root"))


@functools.lru_cache(_MOST_ANSWERS)
def _answer(experiment: int, _runs_made: int, primary: str, *roots: str) -> str:
    """What the runs of an experiment say so far; kept, as it changes with what it is asked by and with nothing else."""
    rows = _rows(list(Run.objects.filter(experiment_id=experiment, state="done").order_by("number")))
    return answer_so_far(_table(rows, None, primary, roots), rows)


def experiment_json(experiment: Experiment) -> dict[str, Any]:
    """An experiment without its runs."""
    proposal = up_to_date(experiment.proposal) if experiment.proposal else None
    return {
        "key": experiment.key,
        "question": experiment.question,
        "branch": experiment.branch,
        "target": experiment.target,
        "primary": experiment.primary,
        "state": experiment.state,
        "reason": experiment.reason,
        "proposal": proposal.number if proposal else None,
        "proposal_state": proposal.state if proposal else None,
        "created": experiment.created,
        "created_by": experiment.created_by.username,
        "closed": experiment.closed,
        "closed_by": experiment.closed_by.username if experiment.closed_by else None,
        "runs_made": experiment.runs_made,
    }


def experiment_detail(experiment: Experiment, base: int | None) -> dict[str, Any]:
    """An experiment with its runs side by side, against ``base``."""
    runs = list(experiment.runs.select_related("commit", "base", "person").order_by("number"))
    rows = _rows([r for r in runs if r.state == "done"])
    if base is not None and base not in {r.number for r in rows}:
        raise MissingError(f"{experiment.key} has no run {base} that ended well", code="run.missing")
    table = _table_of(experiment, rows, base)
    cells = table.pop("cells")
    told = [{**run_json(r), "cells": cells.get(r.number, {"reads": {}, "parameters": {}, "metrics": {}})} for r in runs]
    return {
        **experiment_json(experiment),
        **table,
        "answer": answer_so_far({**table, "cells": cells}, rows),
        "runs": told,
    }


def _rows(runs: list[Run]) -> list[RunRow]:
    named = _read_names(runs)
    return [
        RunRow(
            r.number,
            {named[path]: read["version"] or read["content"][:8] for path, read in r.reads.items()},
            r.parameters,
            r.metrics,
        )
        for r in runs
    ]


def _read_names(runs: list[Run]) -> dict[str, str]:
    """How artifacts that were read are called: by name, or by path where two have one name."""
    names: dict[str, set[str]] = {}
    for run in runs:
        for path, read in run.reads.items():
            names.setdefault(read["name"], set()).add(path)
    return {path: name if len(paths) == 1 else path for name, paths in names.items() for path in paths}


def _table(rows: list[RunRow], base: int | None, primary: str, roots: Sequence[str]) -> dict[str, Any]:
    """Runs side by side, with what ``shelf.toml`` says of metrics in these states, the last one counting most."""
    said = dict(metric for root in roots if root for metric in rules_at(root).metrics)
    return compare_runs(rows, base, said, primary or None)


def _table_of(experiment: Experiment, rows: list[RunRow], base: int | None) -> dict[str, Any]:
    branches = (experiment.target, experiment.branch)
    roots = _roots(experiment.shelf, branches)
    return _table(rows, base, experiment.primary, [roots.get(name, "") for name in branches])


def run_json(run: Run) -> dict[str, Any]:
    """A run's public form."""
    return {
        "number": run.number,
        "branch": run.branch,
        "commit": run.commit.uid,
        "base": run.base.uid,
        "reads": [{"path": path, **read} for path, read in run.reads.items()],
        "parameters": run.parameters,
        "metrics": run.metrics,
        "courses": run.courses,
        "command": run.command,
        "state": run.state,
        "exit_code": run.exit_code,
        "note": run.note,
        "began": run.began,
        "took_seconds": run.took_seconds,
        "person": run.person.username,
    }


def courses_of(experiment: Experiment, name: str, numbers: list[int] | None) -> list[dict[str, Any]]:
    """The course of one metric in some runs, thinned to what a drawing shows."""
    runs = experiment.runs.exclude(series="").order_by("number")
    if numbers is not None:
        runs = runs.filter(number__in=numbers)
    result = []
    for run in runs:
        if name in run.courses:
            points = [(x, y) for x, y in orjson.loads(get_store().read(run.series))[name]]
            result.append({"number": run.number, "branch": run.branch, "points": thinned(points, _DRAWN_POINTS)})
    return result


# --- closing ------------------------------------------------------------------------------


def adopt(
    caller: Caller, experiment: Experiment, *, branch: str = "", title: str = "", reviewers: list[str] | None = None
) -> Experiment:
    """Propose that its branch, or another one that its runs were on, be merged; closes the experiment."""
    shelf = experiment.shelf
    require(caller, shelf, "experiment")
    _check_open(experiment)
    source = branch or experiment.branch
    rows = _rows([r for r in experiment.runs.order_by("number") if r.state == "done"])
    answer = answer_so_far(_table_of(experiment, rows, None), rows)
    with one_act():
        as_now(experiment)
        _check_open(experiment)
        proposal = open_proposal(
            caller,
            shelf,
            title or experiment.question,
            source,
            experiment.target,
            description=f"Experiment {experiment.key}: {experiment.question}\n\n{answer}",
            reviewers=reviewers or [],
        )
        experiment.proposal = proposal
        _close(caller, experiment, "adopted", "")
        note(caller, "experiment.adopted", experiment.key, shelf, proposal=proposal.number)
    return experiment


def abandon(caller: Caller, experiment: Experiment, reason: str) -> Experiment:
    """Close it without adopting; it is kept, with the reason."""
    require(caller, experiment.shelf, "experiment")
    _check_open(experiment)
    if not reason.strip():
        raise InvalidError(
            "abandoning an experiment needs a reason, for anyone who asks the same question later",
            code="experiment.reason",
            pointer="/reason",
            hint="Give a reason: --reason TEXT",
        )
    with one_act():
        as_now(experiment)
        _check_open(experiment)
        _close(caller, experiment, "abandoned", reason.strip())
        note(caller, "experiment.abandoned", experiment.key, experiment.shelf, reason=reason.strip())
    return experiment


def _close(caller: Caller, experiment: Experiment, state: str, reason: str) -> None:
    experiment.state, experiment.reason = state, reason
    experiment.closed, experiment.closed_by = timezone.now(), caller.person
    experiment.save()


def _check_open(experiment: Experiment) -> None:
    if experiment.state != "open":
        raise ConflictError(
            f"the experiment {experiment.key} is {experiment.state} already",
            code="experiment.state",
            hint="Begin another one: everyshelf experiment begin",
        )

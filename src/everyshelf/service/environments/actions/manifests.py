"""What is put into an environment: the artifacts of a tag with their bindings put in, and the record of it.

The record of a deployment (``Row`` by path) tells for each artifact which content of the shelf it is, and what lies at
the destination: nothing if that is the content itself, the content id of the artifact with its bindings put in, or, if
a secret is in it, a keyed digest of that id ("k:…"). So no record allows to try values of a secret against it.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from fnmatch import fnmatchcase
from functools import cached_property
from typing import Any

import orjson

from everyshelf.core.content.ids import content_id
from everyshelf.core.databases import Step
from everyshelf.core.errors import InvalidError, LimitError, MissingError
from everyshelf.core.history.repositories import require_no_repository
from everyshelf.core.kinds.recognise import HEAD_BYTES
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.promotion.bindings import rules_for
from everyshelf.core.promotion.bound import Bound
from everyshelf.core.promotion.destination import Destination, Manifest, Placed
from everyshelf.service.base.context import get_store, get_trees, recogniser
from everyshelf.service.base.keys import digest
from everyshelf.service.environments.actions.bindings import Values, bind
from everyshelf.service.environments.models import Deployment, Environment, Phase
from everyshelf.service.shelves.actions.outside import outside_addresses
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.seen import versions_at
from everyshelf.service.shelves.actions.verify import check_manifest
from everyshelf.service.shelves.models import Commit, Shelf

_KEYED = "k:"


@dataclass(frozen=True)
class Row:
    """One artifact as it was put in place. ``source`` is empty for what the destination itself made of it; ``put``
    tells whether this deployment wrote it, or it lay there before."""

    source: str
    size: int
    there: str = ""
    put: bool = False

    def is_at(self, placed: Placed) -> bool:
        """Whether ``placed`` is what this row says."""
        if self.there.startswith(_KEYED):
            return self.there == _KEYED + digest(placed.id)
        return placed.id == (self.there or self.source)


Record = dict[str, Row]


def load_record(identity: str) -> Record:
    """A record from the store."""
    return {path: Row(*row) for path, row in orjson.loads(get_store().read(identity)).items()} if identity else {}


def store_record(record: Record) -> str:
    """Keep a record as content; returns its id (made durable by the caller's sync)."""
    rows = {path: [r.source, r.size, r.there, r.put] for path, r in sorted(record.items())}
    return get_store().put(orjson.dumps(rows)).id


def last_deployment(environment: Environment) -> Deployment | None:
    """What was put there last and is in force."""
    rows = environment.deployments.filter(state=Phase.RECORDED).select_related("tag", "commit")
    return rows.order_by("-number").first()


def recorded(environment: Environment) -> Record:
    """What the deployment in force put there."""
    last = last_deployment(environment)
    return load_record(last.manifest) if last else {}


def as_found(record: Record, present: Manifest) -> Manifest:
    """A record in terms of what is there: where the two agree, what is there; else what the record says."""
    found = {}
    for path, row in record.items():
        there = present.get(path)
        found[path] = there if there is not None and row.is_at(there) else Placed(row.there or row.source, row.size)
    return found


class LeftOut:
    """Which paths an environment does not take: by pattern, by kind, because they lie outside the folder it holds, or
    because its destination cannot keep them."""

    def __init__(self, environment: Environment, destination: Destination) -> None:
        said: dict[str, Any] = environment.left_out or {}
        self._subfolder, self._destination = environment.subfolder, destination
        self.patterns: list[str] = said.get("patterns", [])
        self.kinds: set[str] = set(said.get("kinds", []))

    def has(self, path: str, kind: str = "") -> bool:
        """True for what is neither put in place, nor removed, nor called drift."""
        if self._subfolder and not path.startswith(f"{self._subfolder}/"):
            return True
        return (
            not self._destination.takes(path)
            or kind in self.kinds
            or any(fnmatchcase(path, p) or path.startswith(f"{p.rstrip('/')}/") for p in self.patterns)
        )


@dataclass
class Aim:
    """What an environment is to hold. ``put``: artifacts of the shelf by path, as they will lie there. ``kept``: what
    is there and stays as it is. ``before``: what the deployment in force put there. ``missing``: names without a value,
    by the artifacts that need them. ``problems``: what cannot be put in, by path. ``steps``: what is done there beyond
    artifacts, once somebody asked."""

    environment: Environment
    commit: Commit
    rules: Rules
    values: Values
    put: dict[str, tuple[Row, Placed]] = field(default_factory=dict)
    kept: Manifest = field(default_factory=dict)
    before: Record = field(default_factory=dict)
    missing: dict[str, list[str]] = field(default_factory=dict)
    problems: dict[str, str] = field(default_factory=dict)
    record: Record = field(default_factory=dict)
    steps: list[Step] = field(default_factory=list)

    @cached_property
    def manifest(self) -> Manifest:
        """Everything that will be there; asked once ``put`` and ``kept`` are complete."""
        return {**self.kept, **{path: placed for path, (_, placed) in self.put.items()}}

    def bytes_of(self, path: str, destination: Destination) -> Iterator[bytes]:
        """What is to lie at ``path``: from the shelf with its bindings put in, or as it is there."""
        if path not in self.put:
            with destination.as_file(path) as file, file.open("rb") as opened:
                yield from iter(lambda: opened.read(1 << 20), b"")
            return
        row = self.put[path][0]
        if row.there:
            yield bind(path, row.source, self.rules, self.values.plain).data
        else:
            yield from get_store().iter_range(row.source)

    def look_at_steps(self, destination: Destination, present: Manifest) -> list[Step]:
        """What would be done there beyond artifacts; raises ``EveryShelfError`` if it cannot be done."""
        if destination.keeps_forms:
            self.steps = destination.steps(present, self.manifest, lambda path: self.bytes_of(path, destination))
        return self.steps

    def shown(self, path: str, source: str) -> bytes:
        """A content of the shelf as it may be shown: with its bindings put in, the secret ones left as their names."""
        return bind(path, source, self.rules, self.values.shown).data


def aim_at_state(
    destination: Destination,
    environment: Environment,
    commit: Commit,
    selection: list[str] | None,
    present: Manifest,
    *,
    root: str = "",
) -> Aim:
    """What an environment is to hold after a state of the shelf was put there: a commit's, or ``root``, which grew from
    it. With a selection only that is put there, and of it only what an earlier deployment recorded is removed; the
    rest stays as it is."""
    files = {path: (entry.id, entry.size) for path, entry in get_trees().files(root or commit.root)}
    return _aim(destination, environment, commit, files, selection, present)


def aim_at_deployment(destination: Destination, deployment: Deployment, present: Manifest) -> Aim:
    """What an environment is to hold after going back to an earlier deployment, with the bindings of today."""
    record = load_record(deployment.manifest)
    files = {path: (row.source, row.size) for path, row in record.items() if row.source}
    return _aim(destination, deployment.environment, deployment.commit, files, None, present)


def _aim(
    destination: Destination,
    environment: Environment,
    commit: Commit,
    files: dict[str, tuple[str, int]],
    selection: list[str] | None,
    present: Manifest,
) -> Aim:
    rules, left_out, before = rules_at(commit.root), LeftOut(environment, destination), recorded(environment)
    aim = Aim(environment, commit, rules, Values(environment), before=before)
    kinds = _kinds(environment, commit, files) if left_out.kinds else {}
    covered = _covers(selection)
    wanted = [p for p in sorted(files) if covered(p) and not left_out.has(p, kinds.get(p, ""))]
    rows = _Rows(aim, destination, {path: files[path] for path in wanted})
    aim.put = {path: rows.row(path) for path in wanted}
    for path, placed in present.items():
        if path in aim.put:
            continue
        ours = selection is None or (covered(path) and path in before)
        from_platform = path in before and not before[path].source
        by_kind = bool(left_out.kinds) and path not in before and kind_there(destination, path) in left_out.kinds
        if not ours or from_platform or by_kind or left_out.has(path, kinds.get(path, "")):
            aim.kept[path] = placed
    stays = {p: replace(row, put=False) for p, row in before.items() if p in aim.kept}
    written = {p: replace(row, put=present.get(p) != placed) for p, (row, placed) in aim.put.items()}
    aim.record = {**stays, **written}
    require_no_repository(aim.record, environment.name)
    return aim


def kind_there(destination: Destination, path: str) -> str:
    """The kind of what somebody added there."""
    with destination.as_file(path) as file:
        with file.open("rb") as opened:
            head = opened.read(HEAD_BYTES)
        with recogniser() as worker:
            return worker.recognise([(path, head, file.stat().st_size)])[0]


def _covers(selection: list[str] | None) -> Any:
    if selection is None:
        return lambda path: True
    chosen = set(selection)
    return lambda path: path in chosen or any(path.startswith(f"{c}/") for c in chosen)


def _kinds(environment: Environment, commit: Commit, files: dict[str, tuple[str, int]]) -> dict[str, str]:
    found = versions_at(environment.shelf, commit, {path: source for path, (source, _) in files.items()})
    return {path: version.kind for path, version in found.items()}


class _Rows:
    """What each artifact will be there: with its bindings put in, and in the form in which the destination keeps it."""

    def __init__(self, aim: Aim, destination: Destination, files: dict[str, tuple[str, int]]) -> None:
        self._aim, self._destination, self._files = aim, destination, files
        self._outside = outside_addresses(source for source, _ in files.values())

    def row(self, path: str) -> tuple[Row, Placed]:
        """The record and what will lie there; what cannot be put in is a problem of the aim."""
        source, size = self._files[path]
        plain = Row(source, size), Placed(source, size)
        if source in self._outside:
            self._aim.problems[path] = (
                f"{path} lies in place, outside the shelf, so its bytes are not deployed; tag a selection without it, "
                "or have the environment leave it out (env change --leave-out)"
            )
            return plain
        try:
            bound = self._bound(path)
            placed = (
                self._destination.kept_as(path, bound.data if bound else get_store().read(source), self._beside)
                if self._destination.keeps_forms
                else None
            )
        except (InvalidError, LimitError) as error:
            self._aim.problems[path] = self._aim.values.masked(error.message.encode()).decode()
            return plain
        if bound is None and placed is None:
            return plain
        if bound is not None:
            for name in bound.missing:
                self._aim.missing.setdefault(name, []).append(path)
            placed = placed or Placed(content_id(bound.data), len(bound.data))
        assert placed is not None
        secret = bound is not None and bool(set(bound.used) & self._aim.values.secret)
        if secret and not self._destination.keeps_secrets:
            self._aim.problems[path] = (
                f"{path} has a secret binding, and what goes into a repository is never forgotten"
            )
            return plain
        if placed.id == source:
            return plain
        return Row(source, size, _KEYED + digest(placed.id) if secret else placed.id), placed

    def _bound(self, path: str) -> Bound | None:
        if not rules_for(path, self._aim.rules):
            return None
        return bind(path, self._files[path][0], self._aim.rules, self._aim.values.plain)

    def _beside(self, path: str) -> bytes | None:
        """What goes to another path."""
        if path not in self._files:
            return None
        bound = self._bound(path)
        return bound.data if bound is not None else get_store().read(self._files[path][0])


def deployed_commit(shelf: Shelf, name: str) -> Commit | None:
    """The commit that is deployed in the environment called ``name``; None if nothing is."""
    environment = Environment.objects.filter(shelf=shelf, name=name).first()
    if environment is None:
        raise MissingError(
            f"{shelf.name} has no environment {name!r}",
            code="environment.missing",
            hint="List them: everyshelf env list",
        )
    deployment = last_deployment(environment)
    return deployment.commit if deployment else None


def check_deployments(shelf: Shelf) -> Iterator[str]:
    """A line for each deployment in force whose record cannot be read, or names content that is not on the shelf."""
    for environment in shelf.environments.filter(ended=None):
        deployment = last_deployment(environment)
        if deployment is None or not deployment.manifest:
            continue
        what = f"deployment {deployment.number} of {environment.name}"
        wrong = list(check_manifest(deployment.manifest, what))
        yield from wrong
        if not wrong:
            for path, row in load_record(deployment.manifest).items():
                if row.source and not get_store().has(row.source):
                    yield f"{what}: the content of {path} is not stored"

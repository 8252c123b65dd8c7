"""The lineage of a version: step by step back to what it was made from, and on to what was made from it.

A version is known by its artifact and its content, so what a run wrote on a branch is the same after a merge, and after
it was moved. Copies lead to other shelves, as far as the caller may see those.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cached_property

from everyshelf.core.answers.lineage import Ingredient, LineageAnswer, LineageVersion, Making, MakingSort
from everyshelf.core.lineage.telling import remake, sentence_of
from everyshelf.service.base.context import get_store, get_trees
from everyshelf.service.environments.actions.environments import list_environments
from everyshelf.service.environments.actions.manifests import recorded
from everyshelf.service.lineage.actions.recording import MADE_BY, MADE_WITH, record_makings
from everyshelf.service.lineage.models import MakingPart, MakingStep
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.copying import LABEL as COPIED_FROM
from everyshelf.service.shelves.actions.seen import see_versions
from everyshelf.service.shelves.actions.seen_shapes import SeenVersion
from everyshelf.service.shelves.actions.shelves import visible_shelves
from everyshelf.service.shelves.models import ArtifactVersion, Shelf

MOST_STEPS = 50
_MOST_VERSIONS = 300
_MOST_OF_ONE = 50
_BESIDE = ("run__experiment", "run__base", "run__commit", "run__person", "commit", "shelf")
_AT_ONCE = 500
_COPIED = re.compile(r"([^/]+)/(.+) version (\d+)")


@dataclass(frozen=True)
class _Key:
    """A version by its shelf, artifact and content."""

    shelf: str
    artifact: int | None
    path: str
    content: str

    @property
    def id(self) -> str:
        """Its id within an answer."""
        return f"{self.shelf}:{self.path}@{self.content[:16]}"


_Told = tuple[Making, list[_Key], list[_Key]]


class _Lineage:
    def __init__(self, caller: Caller) -> None:
        self._caller = caller
        self._recorded: set[int] = set()
        self.versions: dict[_Key, int] = {}
        self.steps: dict[str, Making] = {}
        self.missing: dict[str, list[str]] = {}
        self.more = False

    @cached_property
    def _visible(self) -> dict[int, Shelf]:
        return {shelf.pk: shelf for shelf in visible_shelves(self._caller)}

    @cached_property
    def _by_key(self) -> dict[str, Shelf]:
        return {shelf.key: shelf for shelf in self._visible.values()}

    def follow(self, start: _Key, depth: int) -> None:
        """Back and on from ``start``."""
        self.versions[start] = 0
        for direction in (-1, 1):
            front = [start]
            for distance in range(1, depth + 2):
                following: list[_Key] = []
                for key in front:
                    for told in self._steps_of(key, wrote=direction < 0):
                        if distance > depth or len(self.versions) > _MOST_VERSIONS:
                            self.more = True
                            break
                        self._take(told, key, direction, direction * distance, following)
                front = following

    def _take(self, told: _Told, key: _Key, direction: int, at: int, following: list[_Key]) -> None:
        """Note a step, and the versions on its far side."""
        step, reads, writes = told
        far, near = (reads, writes) if direction < 0 else (writes, reads)
        if step.id not in self.steps:
            step.distance = at if direction < 0 else at - 1
        known = self.steps.setdefault(step.id, step)
        for one in far:
            if one not in self.versions and one != key:
                self.versions[one] = at
                following.append(one)
        shown_near = [one.id for one in near if one in self.versions]
        shown_far = [one.id for one in far if one in self.versions]
        shown_reads, shown_writes = (shown_far, shown_near) if direction < 0 else (shown_near, shown_far)
        known.reads = list(dict.fromkeys([*known.reads, *shown_reads]))
        known.writes = list(dict.fromkeys([*known.writes, *shown_writes]))
        known.more_reads, known.more_writes = len(reads) - len(known.reads), len(writes) - len(known.writes)

    def _steps_of(self, key: _Key, *, wrote: bool) -> list[_Told]:
        """The steps that wrote a version, or read it, on its shelf; and the copies of it."""
        shelf = self._by_key.get(key.shelf)
        if shelf is None:
            return []
        self._record(shelf)
        parts = MakingPart.objects.filter(content=key.content, wrote=wrote, step__shelf=shelf)
        parts = parts.filter(artifact=key.artifact) if key.artifact is not None else parts.filter(path=key.path)
        rows = MakingStep.objects.filter(pk__in=parts.values("step")).select_related(*_BESIDE).order_by("-pk")
        found = [self._told(row) for row in rows[:_MOST_OF_ONE]]
        # A copy from a shelf that the caller may not see is not told of.
        found = [told for told in found if told[0].sort != "copy" or told[1]]
        if not wrote:
            found += self._copies_of(key)
        return found

    def _record(self, shelf: Shelf) -> None:
        if shelf.pk not in self._recorded:
            record_makings(shelf)
            self._recorded.add(shelf.pk)

    def _told(self, row: MakingStep) -> _Told:
        held = list(row.parts.order_by("pk").values_list("artifact", "path", "content", "wrote"))
        reads = [_Key(row.shelf.key, a, p, c) for a, p, c, wrote in held if not wrote]
        writes = [_Key(row.shelf.key, a, p, c) for a, p, c, wrote in held if wrote]
        step = _run_step(row) if row.run is not None else _commit_step(row)
        self.missing[step.id] = list(row.missing)
        if step.sort == "copy":
            reads += self._copied_from(row)
        return step, reads, writes

    def _copied_from(self, row: MakingStep) -> list[_Key]:
        """The version of another shelf that a commit copied, if the caller may see that shelf."""
        assert row.commit is not None
        match = _COPIED.fullmatch(row.commit.labels.get(COPIED_FROM, ""))
        other = self._by_key.get(match[1]) if match is not None else None
        if match is None or other is None:
            return []
        rows = ArtifactVersion.objects.filter(shelf=other, path=match[2], number=int(match[3]), content__gt="")
        return [_Key(other.key, v.artifact_id, v.path, v.content) for v in rows[:1]]

    def _copies_of(self, key: _Key) -> list[_Told]:
        """Commits of other shelves, as far as the caller may see those, that copied a version."""
        rows = ArtifactVersion.objects.filter(content=key.content, shelf__in=self._visible, number__isnull=False)
        found = []
        for copy in rows.exclude(shelf=self._by_key[key.shelf]).select_related("commit")[:_MOST_OF_ONE]:
            said = copy.commit.labels.get(COPIED_FROM, "")
            match = _COPIED.fullmatch(said)
            if match is None or match[1] != key.shelf or match[2] != key.path:
                continue
            other = self._visible[copy.shelf_id]
            self._record(other)
            row = MakingStep.objects.filter(commit=copy.commit_id).select_related("commit", "shelf", "run").first()
            if row is not None:
                found.append(self._told(row))
        return found


def _run_step(row: MakingStep) -> Making:
    run = row.run
    assert run is not None
    return Making(
        id=f"{row.shelf.key}/{run.experiment.key}/{run.number}",
        sort="run",
        name=f"run {run.number} of {run.experiment.key}",
        shelf=row.shelf.key,
        commit=run.commit.uid,
        command=run.command,
        parameters=run.parameters,
        who=run.person.username,
        began=run.began,
        took_seconds=run.took_seconds,
        reads=[],
        writes=[],
        distance=0,
        code=run.base.uid,
        experiment=run.experiment.key,
        number=run.number,
    )


def _commit_step(row: MakingStep) -> Making:
    commit = row.commit
    assert commit is not None
    labels = commit.labels
    sort: MakingSort = "copy" if COPIED_FROM in labels else "build" if MADE_BY in labels else "commit"
    names: dict[MakingSort, str] = {
        "copy": f"a copy from {labels.get(COPIED_FROM, '')}",
        "build": f"build {labels.get(MADE_BY, '')}",
        "commit": f"commit {commit.uid[:8]}, “{commit.summary}”",
    }
    return Making(
        id=f"{row.shelf.key}/{commit.uid[:16]}",
        sort=sort,
        name=names[sort],
        shelf=row.shelf.key,
        commit=commit.uid,
        command=labels.get(MADE_WITH, ""),
        parameters={},
        who=commit.author,
        began=commit.time,
        took_seconds=None,
        reads=[],
        writes=[],
        distance=0,
        code=labels.get(MADE_BY, ""),
    )


def lineage_of_version(caller: Caller, shelf: Shelf, version: SeenVersion, depth: int) -> LineageAnswer:
    """What a version was made from and what was made from it, up to ``depth`` steps each way; and whether it can be
    made again."""
    start = _Key(shelf.key, version.artifact_id, version.path, version.content)
    found = _Lineage(caller)
    found.follow(start, depth)
    steps = sorted(found.steps.values(), key=lambda one: (one.distance, one.began is None, str(one.began), one.id))
    maker = next((step for step in steps if start.id in step.writes), None)
    versions = _versions(found, start, version)
    needs = _needs(shelf, maker, found, versions) if maker is not None else []
    return LineageAnswer(
        artifact=version.path,
        shelf=shelf.key,
        version=version.number,
        versions=versions,
        steps=steps,
        again=remake(maker, needs),
        sentence=sentence_of(version.path, version.number, steps, start.id),
        more=found.more,
    )


def _versions(found: _Lineage, start: _Key, asked: SeenVersion) -> list[LineageVersion]:
    seen = _see(found.versions)
    seen[start] = asked
    there = _running(found)
    told = []
    for key, distance in sorted(found.versions.items(), key=lambda one: (one[1], one[0].path)):
        version = seen.get(key)
        told.append(
            LineageVersion(
                id=key.id,
                shelf=key.shelf,
                artifact=version.path if version is not None else key.path,
                kind=version.kind if version is not None else "opaque",
                version=version.number if version is not None else None,
                content=key.content,
                size=version.size if version is not None else 0,
                commit=version.commit.uid if version is not None else "",
                author=version.commit.author if version is not None else "",
                recorded=version.commit.recorded if version is not None else None,
                distance=distance,
                runs_in=there(key),
            )
        )
    return told


def _see(keys: Iterable[_Key]) -> dict[_Key, SeenVersion]:
    """The first version of each artifact with each content."""
    wanted = {(key.artifact, key.content): key for key in keys if key.artifact is not None}
    artifacts = sorted({key.artifact for key in wanted.values() if key.artifact is not None})
    found: dict[_Key, SeenVersion] = {}
    for first in range(0, len(artifacts), _AT_ONCE):
        some = artifacts[first : first + _AT_ONCE]
        contents = {content for artifact, content in wanted if artifact in set(some)}
        rows = ArtifactVersion.objects.filter(artifact__in=some, content__in=contents, number__isnull=False)
        for version in see_versions(rows.order_by("-pk")):
            key = wanted.get((version.artifact_id, version.content))
            if key is not None:
                found[key] = version
    return found


def _running(found: _Lineage) -> Callable[[_Key], list[str]]:
    """Tells the environments that have exactly a content now; each shelf's are read once."""
    held: dict[str, list[tuple[str, dict[str, str]]]] = {}

    def there(key: _Key) -> list[str]:
        if key.shelf not in held:
            shelf = found._by_key.get(key.shelf)
            rows = list_environments(shelf) if shelf is not None else []
            held[key.shelf] = [(one.name, {p: row.source for p, row in recorded(one).items()}) for one in rows]
        return [name for name, contents in held[key.shelf] if contents.get(key.path) == key.content]

    return there


def _needs(shelf: Shelf, maker: Making, found: _Lineage, versions: list[LineageVersion]) -> list[Ingredient]:
    """What the step that made a version needs, and whether it is all there."""
    if maker.sort == "copy":
        sources = [one for one in versions if one.id in maker.reads]
        return [
            Ingredient(what="input", name=f"{one.shelf}: {one.artifact}", there=True, detail=f"v{one.version}")
            for one in sources
        ]
    needs = [Ingredient(what="command", name=maker.command or "none recorded", there=bool(maker.command) or None)]
    if maker.sort == "run":
        told = ", ".join(f"{name}={value}" for name, value in maker.parameters.items())
        needs.append(Ingredient(what="parameters", name=told or "none given", there=True))
    store, numbers = get_store(), {(one.artifact, one.content): one.version for one in versions}
    for part in _inputs_of(maker):
        there = store.has(part.content)
        number = numbers.get((part.path, part.content))
        needs.append(Ingredient(what="input", name=part.path, there=there, detail=f"v{number}" if number else ""))
    needs += [Ingredient(what="input", name=text, there=False) for text in found.missing.get(maker.id, [])]
    needs.append(_code(shelf, maker))
    return needs


def _inputs_of(maker: Making) -> list[MakingPart]:
    rows = MakingPart.objects.filter(wrote=False, step__shelf__key=maker.shelf).order_by("pk")
    if maker.experiment:
        rows = rows.filter(step__run__experiment__key=maker.experiment, step__run__number=maker.number or 0)
    else:
        rows = rows.filter(step__commit__uid=maker.commit)
    return list(rows)


def _code(shelf: Shelf, maker: Making) -> Ingredient:
    """The code that ran: what the command names and the shelf held then; or what the build or the run says."""
    words = sorted({word.removeprefix("./") for word in re.findall(r"[\w./-]+\.\w+", maker.command)})
    commit = shelf.commits.filter(uid=maker.code if maker.sort == "run" else maker.commit).first()
    held = [word for word in words if commit is not None and _holds(commit.root, word)]
    if held and commit is not None:
        return Ingredient(what="code", name=", ".join(held), there=True, detail=f"at {commit.uid[:8]}")
    if maker.code and maker.sort != "run":
        return Ingredient(what="code", name=maker.code, there=True)
    return Ingredient(what="code", name="none recorded", there=None)


def _holds(root: str, path: str) -> bool:
    entry = get_trees().find(root, path)
    return entry is not None and entry.type != "folder"

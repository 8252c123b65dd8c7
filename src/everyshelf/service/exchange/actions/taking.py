"""Commits of Git made commits of the shelf: read and judged first, then recorded together."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from datetime import datetime

from django.db import IntegrityError

from everyshelf.core.errors import ConflictError, EveryShelfError, InvalidError, LimitError, UnreadableError
from everyshelf.core.formats.text import decode
from everyshelf.core.history.trees import Change, Entry, Trees
from everyshelf.core.kinds.rules import FILE_NAME, parse_rules
from everyshelf.gitside.bounds import Bounds
from everyshelf.gitside.mapping import Fetched, Mapping, Parent
from everyshelf.gitside.objects import EMPTY_TREE, parse_commit_object
from everyshelf.gitside.repository import Repository
from everyshelf.gitside.residue import decode_residue
from everyshelf.gitside.tags import FetchedTag
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import get_store
from everyshelf.service.exchange.actions.repositories import mapping_of, trees_for_history
from everyshelf.service.exchange.models import GitPair, KeptTag
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.contents import hold
from everyshelf.service.shelves.actions.recognising import recognise_each
from everyshelf.service.shelves.actions.recording import CommitMessage, no_progress, rules_at, soonest_after
from everyshelf.service.shelves.actions.recording_lines import LineCommit, record_line
from everyshelf.service.shelves.models import Commit, Shelf, Tag

_READ_AT_ONCE = 200
_RECORDED_AT_ONCE = 1000
_RECOGNISED_AT_ONCE = 1000  # files
Judge = Callable[[Fetched, str], None]


@dataclass
class _Read:
    """A commit that was read and judged, and is not recorded yet."""

    fetched: Fetched
    parents: list[str]
    changes: list[Change]
    kinds: dict[str, str] = field(default_factory=dict)


class _Recognising:
    """Finds out of which kind everything is, before the records are locked. Another process looks into the files, those
    of many commits at a time as long as the rules are the same, while the next commits are read."""

    def __init__(self, trees: Trees) -> None:
        self._trees = trees
        self._thread = ThreadPoolExecutor(1, "every-shelf-recognise")
        self._flying: deque[Future[None]] = deque()
        self._waiting: list[_Read] = []
        self._files = 0
        self._rules: Entry | None = None

    def __enter__(self) -> _Recognising:
        return self

    def __exit__(self, _kind: object, error: object, *_: object) -> None:
        try:
            if error is None or isinstance(error, EveryShelfError):  # another branch may have what came before it
                self._begin()
                while self._flying:
                    self._flying.popleft().result()
        finally:
            self._thread.shutdown(cancel_futures=True)

    def add(self, read: _Read) -> None:
        """Take a commit that was read."""
        rules = self._trees.find(read.fetched.root, FILE_NAME)
        if rules != self._rules or self._files >= _RECOGNISED_AT_ONCE:
            self._begin()
            self._rules = rules
        self._waiting.append(read)
        self._files += len(read.changes)

    def _begin(self) -> None:
        waiting, self._waiting, self._files = self._waiting, [], 0
        if waiting:
            while len(self._flying) > 1:  # what was read waits in memory
                self._flying.popleft().result()
            self._flying.append(self._thread.submit(self._recognise, waiting))

    @staticmethod
    def _recognise(commits: list[_Read]) -> None:
        came = [(one, change) for one in commits for change in one.changes if change.after is not None]
        kinds = recognise_each(rules_at(commits[0].fetched.root), [change for _, change in came])
        for (one, change), kind in zip(came, kinds, strict=True):
            one.kinds[change.path] = kind


@dataclass
class Taking:
    """The commits of one push or fetch, on their way to the shelf. ``judge`` raises for one that may not be taken.
    ``objects``: how many came. ``recorded_at``: when a commit is recorded, given when it says it was, and the first
    moment that may be."""

    caller: Caller
    shelf: Shelf
    repository: Repository
    judge: Judge
    recorded_at: Callable[[datetime, datetime], datetime]
    progress: Callable[[int, int, str], None] = no_progress
    objects: int = 0
    _read: dict[str, _Read] = field(default_factory=dict)
    _order: dict[str, int] = field(default_factory=dict)
    _known: dict[str, Commit] = field(default_factory=dict)
    _refused: dict[str, EveryShelfError] = field(default_factory=dict)
    _trees: Trees = field(default_factory=trees_for_history)
    _mapping: Mapping | None = None

    def __post_init__(self) -> None:
        self.bounds = Bounds(self.repository, self.objects)

    def read(self, tips: Iterable[str], known: Iterable[str]) -> None:
        """Read and judge every commit that leads to one of ``tips`` and is not on the shelf, in one walk; ``require``
        tells of a tip whether all of it may be taken. ``known``: objects the repository had before."""
        line = list(self.repository.line(dict.fromkeys(tips), known))
        self._look_up(line)
        fresh = [git for git in line if git not in self._known]
        self._order.update({git: len(self._order) + place for place, git in enumerate(fresh)})
        with _Recognising(self._trees) as recognising:
            for start in range(0, len(fresh), _READ_AT_ONCE):
                group = fresh[start : start + _READ_AT_ONCE]
                self.repository.load_commits(group)
                for done, git in enumerate(group, start):
                    if git in self._read or git in self._refused:
                        continue
                    try:
                        self._read_one(git)
                    except EveryShelfError as error:
                        self._refused[git] = error
                    else:
                        recognising.add(self._read[git])
                        self.progress(done, len(fresh), self._read[git].fetched.summary)

    def require(self, tip: str) -> None:
        """Return if all that leads to a tip may be taken; else raise why its first commit may not."""
        if tip in self._refused:
            raise self._refused[tip]

    def line(self, tip: str) -> list[str]:
        """The commits that lead to a tip and are not on the shelf yet, parents first."""
        found: set[str] = set()
        waiting = [tip]
        while waiting:
            git = waiting.pop()
            if git in self._read and git not in found:
                found.add(git)
                waiting += self._read[git].parents
        return sorted(found, key=self._order.__getitem__)

    def met_on_the_way(self, tip: str) -> set[str]:
        """The commits that lead to a tip as far as they came, and the parents of the first of them."""
        found: set[str] = set()
        waiting = [tip]
        while waiting:
            git = waiting.pop()
            if git not in found:
                found.add(git)
                waiting += self._read[git].parents if git in self._read else []
        return found

    def forget_recorded(self) -> None:
        """Take for known what someone else has recorded since it was read."""
        found = self._recorded(list(self._read))
        self._known.update(found)
        for git in found:
            del self._read[git]

    def _look_up(self, line: list[str]) -> None:
        """Which of them the shelf has."""
        self._known.update(self._recorded([git for git in line if git not in self._known and git not in self._read]))

    def _recorded(self, gits: list[str]) -> dict[str, Commit]:
        found: dict[str, Commit] = {}
        for start in range(0, len(gits), 500):
            rows = GitPair.objects.filter(shelf=self.shelf, mapping="", git__in=gits[start : start + 500])
            found.update({row.git: row.commit for row in rows.select_related("commit")})
        return found

    def _read_one(self, git: str) -> None:
        self._mapping = self._mapping or mapping_of(self.shelf, self.repository, self._trees)
        there = parse_commit_object(self.repository.commit(git))
        parents = list(there.parents)
        for parent in parents:
            self.require(parent)
        self._look_up(parents)
        self._check_bounds(git, there.tree, parents)
        above = [Parent(self._root_of(parent), parent) for parent in parents]
        soonest = soonest_after(self._recorded_of(parent) for parent in parents)
        fetched = self._mapping.from_git(git, above, lambda claimed: self.recorded_at(claimed, soonest))
        before = above[0].root if above else self._trees.empty
        self.judge(fetched, before)
        files = fetched.changes
        changes = [Change(path, *pair) for path, pair in files.files.items()]
        if files.wholes or files.inside:
            changes = list(self._trees.changes(before, fetched.root))
        self._read[git] = _Read(fetched, parents, changes)

    def _check_bounds(self, git: str, tree: str, parents: list[str]) -> None:
        """What it changed is counted before it is gone through, and so is how far the sides of a merge are apart."""
        named = f"commit {git[:8]}"
        roots = [self.repository.root_of(parent) for parent in parents] or [EMPTY_TREE]
        for other in (tree, *roots[1:]):
            self.bounds.check(roots[0], other, named)

    def _root_of(self, git: str) -> str:
        return self._known[git].root if git in self._known else self._read[git].fetched.root

    def _recorded_of(self, git: str) -> datetime:
        return self._known[git].recorded if git in self._known else self._read[git].fetched.recorded

    def record(self, line: Iterable[str]) -> dict[str, Commit]:
        """Record commits that were read, parents first, in one transaction, which the caller opened. Gives those that
        were not there yet, by their ids in Git."""
        fresh = [git for git in line if git not in self._known]
        made: dict[str, Commit] = {}
        if fresh:
            with one_act():
                for start in range(0, len(fresh), _RECORDED_AT_ONCE):
                    made.update(self._record_some(fresh[start : start + _RECORDED_AT_ONCE]))
        return made

    def _record_some(self, fresh: list[str]) -> dict[str, Commit]:
        places = {git: place for place, git in enumerate(fresh)}
        commits = [self._as_line_commit(self._read[git], places) for git in fresh]
        made = dict(zip(fresh, record_line(self.caller, self.shelf, commits), strict=True))
        pairs = [GitPair(shelf=self.shelf, commit=commit, git=git) for git, commit in made.items()]
        GitPair.objects.bulk_create(pairs, batch_size=500)
        self._known.update(made)
        self._hold(made)
        for git in fresh:  # a long history fills the memory otherwise
            del self._read[git]
        return made

    def _as_line_commit(self, read: _Read, places: dict[str, int]) -> LineCommit:
        fetched = read.fetched
        return LineCommit(
            parents=[places[git] if git in places else self._known[git] for git in read.parents],
            root=fetched.root,
            message=CommitMessage(
                fetched.summary, fetched.description, fetched.labels, fetched.tasks, fetched.author, fetched.time
            ),
            time=fetched.time,
            recorded=fetched.recorded,
            changes=read.changes,
            kinds=read.kinds,
            moves={new: old for old, new in fetched.moves},
            keep=fetched.kept,
        )

    def known(self, git: str) -> int | None:
        """The number of the shelf's commit for one that is known, else None."""
        self._look_up([git])
        return self._known[git].pk if git in self._known else None

    def commit_of(self, git: str) -> Commit:
        """The shelf's commit for one that is known or was recorded."""
        if git not in self._known:
            self._look_up([git])
        return self._known[git]

    def _hold(self, made: Iterable[str]) -> None:
        """Note that the shelf holds what came: files, and what is kept of paths for Git."""
        sizes: dict[str, int] = {}
        for git in made:
            fetched = self._read[git].fetched
            sizes.update({e.id: e.size for _, e in fetched.changes.files.values() if e is not None})
            for kept in decode_residue(fetched.residue).paths:
                if kept.content:
                    sizes[kept.content] = get_store().size(kept.content)
        hold(self.shelf, sizes)


def judge_push(fetched: Fetched, before: str) -> None:
    """Return if a pushed commit may be taken; raises an error that names the first thing in the way."""
    named = f"commit {fetched.git[:8]} ({fetched.summary[:60]})"
    if fetched.odd:
        path = fetched.odd[0].decode("utf-8", "backslashreplace")
        raise InvalidError(
            f"{named} has {path!r}, which cannot be the path of an artifact",
            code="git.path",
            hint="Rename it in that commit (git rebase -i) and push again.",
        )
    if fetched.unheld:
        raise InvalidError(
            f"{named} has a content note at {fetched.unheld[0]}, and the shelf does not hold what it stands for",
            code="git.note",
            hint="Commit the file itself, or put its content on the shelf first: everyshelf commit.",
        )
    most, rules = get_config().max_upload_bytes, rules_at(before)
    for path, (old, new) in fetched.changes.files.items():
        if new is None:
            continue
        if new.size > most:
            raise LimitError(
                f"{named} has {path} of {new.size:,} bytes, and this service takes {most:,}",
                code="git.size",
                hint="An administrator can raise EVERYSHELF_MAX_UPLOAD.",
            )
        if old is None and rules.leaves_out(path):
            raise InvalidError(
                f"{named} adds {path}, which {FILE_NAME} ignores",
                code="git.ignored",
                hint=f"Take it out of that commit, or change the patterns in {FILE_NAME} first.",
            )
        if path == FILE_NAME:
            _check_rules(new.id, named)


def _check_rules(content: str, named: str) -> None:
    try:
        parse_rules(decode(get_store().read(content)).text)
    except (InvalidError, UnreadableError) as error:
        hint = "Correct it in that commit and push again."
        raise InvalidError(f"{named}: {error.message}", code="rules.syntax", hint=hint) from error


def recorded_now(now: datetime) -> Callable[[datetime, datetime], datetime]:
    """Of what people push: it is recorded when it comes, whatever it says."""
    return lambda _claimed, soonest: max(now, soonest)


def keep_tag(shelf: Shelf, found: FetchedTag, commit: Commit) -> Tag:
    """Record a tag that came from Git, and what is kept of it for Git."""
    try:
        tag = Tag.objects.create(
            shelf=shelf,
            name=found.tag.name,
            commit=commit,
            note=found.tag.note,
            selection=list(found.tag.selection) if found.tag.selection is not None else None,
            created=found.tag.time,
            created_by=found.tag.author,
        )
    except IntegrityError as error:
        raise ConflictError(f"the tag {found.tag.name} exists", code="tag.taken") from error
    if found.residue:
        info = get_store().put(found.residue)
        get_store().sync()
        KeptTag.objects.create(tag=tag, content=info.id)
        hold(shelf, {info.id: info.size})
    return tag

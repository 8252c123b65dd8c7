"""A push to the repository that a shelf is: judged first, then taken in one transaction."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import IO

from django.utils import timezone

from everyshelf.core.errors import ConflictError, EveryShelfError, InvalidError, LimitError, RefusedError
from everyshelf.gitside.incoming import apart, take, unpack
from everyshelf.gitside.pack_limits import PackLimits
from everyshelf.gitside.program import GitError
from everyshelf.gitside.protocol import Command, PushRequest, answer_push, read_push
from everyshelf.gitside.repository import NO_OBJECT, Repository
from everyshelf.gitside.tags import FetchedTag, tag_from_git
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.lanes import lane
from everyshelf.service.base.room import require_room
from everyshelf.service.exchange.actions.repositories import folder_of, locked
from everyshelf.service.exchange.actions.showing import bring_up_to_date
from everyshelf.service.exchange.actions.taking import Taking, judge_push, keep_tag, recorded_now
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, may, require
from everyshelf.service.shelves.actions.branches import check_delete
from everyshelf.service.shelves.actions.recording import moved
from everyshelf.service.shelves.actions.refs import check_branch_name
from everyshelf.service.shelves.models import Branch, Commit, Shelf, Tag

_HEADS, _TAGS = "refs/heads/", "refs/tags/"
_AT_ONCE = 2  # pushes that are unpacked and judged at the same time, in all processes
_MOST_TOLD = 20  # different reasons
_NO_MEMORY = re.compile("out of memory|cannot allocate|mmap failed", re.IGNORECASE)


@dataclass
class _Push:
    caller: Caller
    shelf: Shelf
    request: PushRequest
    has_left: Callable[[], bool]
    refused: dict[str, EveryShelfError] = field(default_factory=dict)
    said: list[str] = field(default_factory=list)
    unpacked: str = "ok"
    branches: dict[str, Branch] = field(default_factory=dict)

    def __post_init__(self) -> None:
        names = {c.ref.removeprefix(_HEADS) for c in self.request.commands if c.ref.startswith(_HEADS)}
        rows = Branch.objects.filter(shelf=self.shelf).select_related("head")
        self.branches = {branch.name: branch for branch in rows if branch.name in names}
        self.tags = set(Tag.objects.filter(shelf=self.shelf).values_list("name", flat=True))

    @property
    def wanted(self) -> list[Command]:
        """What is not refused by now."""
        return [command for command in self.request.commands if command.ref not in self.refused]

    @property
    def is_over(self) -> bool:
        """Whether nothing is left to do; of a push of all or nothing, whether something is refused."""
        if self.request.is_atomic and self.refused:
            for command in self.wanted:
                self.refused[command.ref] = _atomic()
        return not self.wanted

    def tick(self) -> None:
        """Return while someone waits for the answer."""
        if self.has_left():
            raise RefusedError("the client has left; nothing was taken", code="git.left")

    def try_for(self, command: Command, act: Callable[[Command], None]) -> bool:
        """Whether an act goes well for a command that is not refused; else it is."""
        if command.ref in self.refused:
            return False
        try:
            act(command)
        except EveryShelfError as error:
            if error.code == "git.left":
                raise
            self.refused[command.ref] = error
            return False
        return True

    def refuse_unpacked(self, error: EveryShelfError) -> None:
        """Refuse all, because of what was sent."""
        why = error
        if isinstance(error, GitError):
            said = "it takes more memory than it may" if _NO_MEMORY.search(error.said) else error.said or error.message
            why = InvalidError(
                f"what was pushed is damaged or not allowed: {said}",
                code="git.objects",
                hint="Look at it with git fsck; nothing was taken.",
            )
        for command in self.wanted:
            self.refused[command.ref] = why
        self.unpacked = _in_short(why)

    def answer(self) -> bytes:
        """What the client is told."""
        refused = [(c.ref, _in_short(self.refused.get(c.ref))) for c in self.request.commands]
        lines = [f"{error.message}. {_next_step(error)}".strip() for error in self._told()]
        return answer_push(self.request.capabilities, self.unpacked, refused, [*lines, *self.said])

    def _told(self) -> list[EveryShelfError]:
        told: dict[str, EveryShelfError] = {}
        for error in self.refused.values():
            told.setdefault(error.message, error)
        return list(told.values())[:_MOST_TOLD]


def receive_push(caller: Caller, shelf: Shelf, stream: IO[bytes], has_left: Callable[[], bool]) -> bytes:
    """Take what a client pushes; gives the answer in the form of Git's protocol.

    Each ref is judged by itself; those that are taken, with all their commits, are recorded together. Rights are asked
    from the commands, before a byte of the pack is read; nobody waits for the shelf's repository while it is read. The
    work ends when the client has left (``has_left``). Raises ``InvalidError`` for what is not a push, ``BusyError`` if
    too many push at the same time.
    """
    push = _Push(caller, shelf, read_push(stream), has_left)
    if not push.request.commands:
        return b""
    for command in push.request.commands:
        push.try_for(command, lambda one: _may(push, one))
    if push.is_over:
        return push.answer()
    require_room()
    with lane("push", caller.person.username, most=_AT_ONCE, each=1, tick=push.tick):
        _receive(push, stream)
    return push.answer()


def _receive(push: _Push, stream: IO[bytes]) -> None:
    shelf = push.shelf
    with locked(shelf):
        bring_up_to_date(shelf)
    with apart(folder_of(shelf)) as repository:
        objects = 0
        if any(command.after != NO_OBJECT for command in push.wanted):
            try:
                limits = PackLimits(blob=get_config().max_upload_bytes)
                objects = unpack(repository, stream, limits, push.tick)
            except (GitError, InvalidError, LimitError) as error:
                push.refuse_unpacked(error)
                return
        taking, steps = _judged(push, repository, objects)
        if push.is_over:
            return
        with locked(shelf):
            bring_up_to_date(shelf)
            taking.forget_recorded()
            steps = [(c, step) for c, step in steps if push.try_for(c, lambda one: _still_may(push, taking, one))]
            if push.is_over:
                return
            take(repository)
            try:
                _record(push, taking, [step for _, step in steps])
            except EveryShelfError as error:  # someone moved a branch at that moment: nothing is recorded
                for command in push.wanted:
                    push.refused[command.ref] = error
            bring_up_to_date(shelf)


def _next_step(error: EveryShelfError) -> str:
    """What a person who uses Git does next."""
    if error.code == "rights.scope":
        return "Make another token with it: everyshelf token make NAME --scope read --scope write --scope promote"
    return error.hint


def _in_short(error: EveryShelfError | None) -> str:
    return "" if error is None else error.facts.get("short") or error.message.splitlines()[0][:150]


def _atomic() -> EveryShelfError:
    return ConflictError("another part of this push was refused", short="atomic push refused", code="git.atomic")


# --- rights, from the commands ------------------------------------------------------------


def _may(push: _Push, command: Command) -> None:
    """Return if the caller may do what a command says, whatever comes with it."""
    if command.ref.startswith(_HEADS):
        name = command.ref.removeprefix(_HEADS)
        branch = push.branches.get(name)
        if command.after == NO_OBJECT:
            if branch is None:
                raise InvalidError(
                    f"{name} is not a branch of this shelf", code="branch.missing", hint="See git branch -r."
                )
            check_delete(push.caller, push.shelf, branch)
        else:
            _require(push, branch, check_branch_name(name))
    elif command.ref.startswith(_TAGS):
        name = command.ref.removeprefix(_TAGS)
        if command.after == NO_OBJECT or name in push.tags:
            raise RefusedError(
                f"the tag {name} exists, and tags neither move nor go",
                code="tag.taken",
                short="tags never move",
                hint="Choose another name.",
            )
        require(push.caller, push.shelf, "tag")
        check_branch_name(name)
    else:
        raise InvalidError(
            f"{command.ref} is neither a branch nor a tag, and a shelf keeps only those",
            code="git.ref",
            hint="Push branches (refs/heads/…) and tags (refs/tags/…).",
        )


def _require(push: _Push, branch: Branch | None, name: str) -> None:
    """Return if the caller may push to the branch."""
    if branch is None:
        require(push.caller, push.shelf, "branch")
        return
    if branch.guarded and not may(push.caller, push.shelf, "commit to a guarded branch"):
        require(push.caller, push.shelf, "commit")
        own = f"{push.caller.person.username}/work"
        raise RefusedError(
            f"{name} is guarded",
            code="branch.guarded",
            short=f"{name} is guarded",
            hint=f"Push to a branch of your own and open a proposal: git push origin HEAD:refs/heads/{own} &&"
            f' everyshelf proposal open {own} --into {name} --title "…"',
        )
    require(push.caller, push.shelf, "commit to a guarded branch" if branch.guarded else "commit")


# --- judging what came --------------------------------------------------------------------

Step = Callable[[], dict[str, Commit]]


def _judged(push: _Push, repository: Repository, objects: int) -> tuple[Taking, list[tuple[Command, Step]]]:
    """What is to be done, for every command that may be; why not, for every other."""

    def tick(_done: int, _total: int, _note: str) -> None:
        push.tick()

    taking = Taking(push.caller, push.shelf, repository, judge_push, recorded_now(timezone.now()), tick, objects)
    there = repository.refs(_HEADS, _TAGS)
    tips: dict[str, str] = {}
    tags: dict[str, FetchedTag] = {}
    kinds = repository.kinds(command.after for command in push.wanted if command.after != NO_OBJECT)

    def find_tip(command: Command) -> None:
        if command.after == NO_OBJECT:
            return
        if command.ref.startswith(_TAGS):
            tags[command.ref] = _tag_of(repository, command)
            tips[command.ref] = tags[command.ref].commit
        elif kinds.get(command.after) != "commit":
            what = f"a {kinds[command.after]}" if command.after in kinds else "not in what was pushed"
            raise InvalidError(
                f"{command.after[:12]} is {what}, and {command.ref} has to name a commit",
                code="git.object",
                hint="Push a branch: git push origin BRANCH",
            )
        else:
            tips[command.ref] = command.after

    for command in push.wanted:
        push.try_for(command, find_tip)
    taking.read([tips[command.ref] for command in push.wanted if command.ref in tips], list(there.values()))
    built_on = _Ancestry(repository, taking)

    def check(command: Command) -> None:
        if command.ref in tips:
            taking.require(tips[command.ref])
        if command.ref.startswith(_HEADS) and command.after != NO_OBJECT:
            at = there.get(command.ref, NO_OBJECT)
            if at == command.after:
                return  # the same push came before
            if at != command.before or (at != NO_OBJECT and not built_on(at, command.after)):
                raise _moved_on(command)

    steps = [(c, _step(push, taking, c, tags.get(c.ref))) for c in push.wanted if push.try_for(c, check)]
    return taking, steps


def _moved_on(command: Command) -> ConflictError:
    name = command.ref.removeprefix(_HEADS)
    return ConflictError(
        f"{name} has commits that yours are not built on",
        code="branch.moved",
        short="not built on its newest commit",
        hint=f"Run git pull (or git fetch and git merge), then push again. {name} is never overwritten.",
    )


@dataclass
class _Ancestry:
    """Which commit is built on which: mostly told by the parents of what came, which were just read."""

    repository: Repository
    taking: Taking

    def __call__(self, before: str, after: str) -> bool:
        if before == after or before in self.taking.met_on_the_way(after):
            return True
        out = self.repository.run("rev-list", "--count", "--max-count=1", before, f"^{after}", fine=(0,))
        return out.strip() == b"0"


def _tag_of(repository: Repository, command: Command) -> FetchedTag:
    name = command.ref.removeprefix(_TAGS)
    found = tag_from_git(name, command.after, repository.read)
    if found is None:
        raise InvalidError(
            f"the tag {name} names no commit", code="git.tag", hint="A shelf keeps tags of commits only."
        )
    return found


def _still_may(push: _Push, taking: Taking, command: Command) -> None:
    """Return if nobody has moved what the command is about while it was read."""
    if command.ref.startswith(_TAGS):
        if Tag.objects.filter(shelf=push.shelf, name=command.ref.removeprefix(_TAGS)).exists():
            _may(push, command)
        return
    name = command.ref.removeprefix(_HEADS)
    now = Branch.objects.filter(shelf=push.shelf, name=name).select_related("head").first()
    seen = push.branches.get(name)
    if now is not None and now.head_id is not None and now.head_id == taking.known(command.after):
        push.branches[name] = now  # the same push came twice, as when the answer to the first was lost
    elif (now.head_id if now is not None else None) != (seen.head_id if seen is not None else None):
        raise _moved_on(command)


def _step(push: _Push, taking: Taking, command: Command, tag: FetchedTag | None) -> Step:
    name = command.ref.removeprefix(_HEADS)
    if tag is not None:
        return lambda: _tag(push, taking, tag)
    if command.after == NO_OBJECT:
        return lambda: _delete(push, push.branches[name])
    return lambda: _advance(push, taking, name, push.branches.get(name), command.after)


# --- recording ----------------------------------------------------------------------------


def _record(push: _Push, taking: Taking, steps: list[Step]) -> None:
    """All in one transaction: commits, branches, tags, the log, and the job that follows."""
    with one_act():
        made: list[Commit] = []
        for step in steps:
            made += step().values()
        if made:
            start_job(push.caller, "describe", push.shelf, {"commits": [commit.uid for commit in made]})


def _advance(push: _Push, taking: Taking, name: str, branch: Branch | None, tip: str) -> dict[str, Commit]:
    made = taking.record(taking.line(tip))
    head = taking.commit_of(tip)
    if branch is None:
        Branch.objects.create(
            shelf=push.shelf, name=name, head=head, created=timezone.now(), created_by=push.caller.person.username
        )
        note(push.caller, "branch.made", name, push.shelf, ref=head.uid)
    else:
        current = Branch.objects.select_related("head").get(pk=branch.pk)
        if current.head_id != branch.head_id:
            raise moved(current, branch.head.uid if branch.head else None)
        if current.head_id != head.pk:
            current.head = head
            current.save(update_fields=["head"])
    _tell(push, made, name)
    return made


def _tell(push: _Push, recorded: dict[str, Commit], name: str) -> None:
    """The log, and the person who pushed."""
    made = list(recorded.values())
    if made:
        note(push.caller, "git.pushed", name, push.shelf, commits=len(made), head=made[-1].uid)
        push.said.append(f"{len(made)} {'commit' if len(made) == 1 else 'commits'} recorded on {name}.")


def _delete(push: _Push, branch: Branch) -> dict[str, Commit]:
    note(push.caller, "branch.deleted", branch.name, push.shelf, head=branch.head.uid if branch.head else None)
    branch.delete()
    return {}


def _tag(push: _Push, taking: Taking, found: FetchedTag) -> dict[str, Commit]:
    made = taking.record(taking.line(found.commit))
    tag = keep_tag(push.shelf, found, taking.commit_of(found.commit))
    note(push.caller, "tag.made", found.tag.name, push.shelf, commit=tag.commit.uid)
    _tell(push, made, found.tag.name)
    return made

"""A push to the repository that a shelf is: judged first, then taken in one transaction."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from django.utils import timezone

from everyshelf.core.errors import ConflictError, EveryShelfError, InvalidError, RefusedError
from everyshelf.gitside.incoming import apart, take, unpack
from everyshelf.gitside.program import GitError
from everyshelf.gitside.protocol import Command, PushRequest, Stream, answer_push, read_push
from everyshelf.gitside.repository import NO_OBJECT, Repository
from everyshelf.gitside.tags import FetchedTag, tag_from_git
from everyshelf.service.base.acts import one_act
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


@dataclass
class _Push:
    caller: Caller
    shelf: Shelf
    request: PushRequest
    refused: dict[str, EveryShelfError] = field(default_factory=dict)
    said: list[str] = field(default_factory=list)

    def answer(self, unpacked: str = "ok") -> bytes:
        """What the client is told."""
        refused = [(c.ref, _in_short(self.refused.get(c.ref))) for c in self.request.commands]
        lines = [f"{error.message}. {_next_step(error)}".strip() for error in self._told()]
        return answer_push(self.request.capabilities, unpacked, refused, [*lines, *self.said])

    def _told(self) -> list[EveryShelfError]:
        told: dict[str, EveryShelfError] = {}
        for error in self.refused.values():
            told.setdefault(error.message, error)
        return list(told.values())


def receive_push(caller: Caller, shelf: Shelf, stream: Stream) -> bytes:
    """Take what a client pushes; gives the answer in the form of Git's protocol.

    Each ref is judged by itself; those that are taken, with all their commits, are recorded together. Raises
    ``InvalidError`` for what is no push.
    """
    push = _Push(caller, shelf, read_push(stream))
    if not push.request.commands:
        return b""
    require_room()
    with locked(shelf):
        bring_up_to_date(shelf)
        with apart(folder_of(shelf)) as repository:
            if any(command.after != NO_OBJECT for command in push.request.commands):
                try:
                    unpack(repository, stream)
                except GitError as error:
                    return _unpacked_badly(push, error)
            steps = _judged(push, repository)
            if push.request.is_atomic and push.refused:
                for command in push.request.commands:
                    push.refused.setdefault(command.ref, _atomic())
                steps = []
            if steps:
                take(repository)
                _record(push, steps)
        bring_up_to_date(shelf)
    return push.answer()


def _unpacked_badly(push: _Push, error: GitError) -> bytes:
    why = InvalidError(
        f"what was pushed is damaged or not allowed: {error.said or error.message}",
        code="git.objects",
        hint="Look at it with git fsck; nothing was taken.",
    )
    push.refused = {command.ref: why for command in push.request.commands}
    return push.answer(_in_short(why))


def _next_step(error: EveryShelfError) -> str:
    """What a person who uses Git does next."""
    if error.code == "rights.scope":
        return "Make another token with it: everyshelf token make NAME --scope read --scope write --scope promote"
    return error.hint


def _in_short(error: EveryShelfError | None) -> str:
    return "" if error is None else error.facts.get("short") or error.message.splitlines()[0][:150]


def _atomic() -> EveryShelfError:
    return ConflictError("another part of this push was refused", short="atomic push refused", code="git.atomic")


# --- judging ------------------------------------------------------------------------------

Step = Callable[[], None]


def _judged(push: _Push, repository: Repository) -> list[Step]:
    """What is to be done, for every command that may be; why not, for every other."""
    taking = Taking(push.caller, push.shelf, repository, judge_push, recorded_now(timezone.now()))
    existing = list(repository.refs(_HEADS, _TAGS).values())
    steps: list[Step] = []
    for command in push.request.commands:
        try:
            steps.append(_step(push, repository, taking, existing, command))
        except EveryShelfError as error:
            push.refused[command.ref] = error
    return steps


def _step(push: _Push, repository: Repository, taking: Taking, existing: list[str], command: Command) -> Step:
    if command.ref.startswith(_HEADS):
        return _branch_step(push, repository, taking, existing, command)
    if command.ref.startswith(_TAGS):
        return _tag_step(push, repository, taking, existing, command)
    raise InvalidError(
        f"{command.ref} is neither a branch nor a tag, and a shelf keeps only those",
        code="git.ref",
        hint="Push branches (refs/heads/…) and tags (refs/tags/…).",
    )


def _branch_step(push: _Push, repository: Repository, taking: Taking, existing: list[str], command: Command) -> Step:
    name = command.ref.removeprefix(_HEADS)
    branch = Branch.objects.select_related("head").filter(shelf=push.shelf, name=name).first()
    if command.after == NO_OBJECT:
        if branch is None:
            raise InvalidError(
                f"{name} is not a branch of this shelf", code="branch.missing", hint="See git branch -r."
            )
        check_delete(push.caller, push.shelf, branch)
        return lambda: _delete(push, branch)
    _require(push, branch, check_branch_name(name))
    there = repository.refs(command.ref).get(command.ref, NO_OBJECT)
    if there != command.before or (there != NO_OBJECT and not _is_ancestor(repository, there, command.after)):
        raise ConflictError(
            f"{name} has commits that yours are not built on",
            code="branch.moved",
            short="not built on its newest commit",
            hint=f"Run git pull (or git fetch and git merge), then push again. {name} is never overwritten.",
        )
    line = taking.read(command.after, existing)
    return lambda: _advance(push, taking, name, branch, line, command.after)


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


def _is_ancestor(repository: Repository, before: str, after: str) -> bool:
    out = repository.run("rev-list", "--count", "--max-count=1", before, f"^{after}", fine=(0,))
    return out.strip() == b"0"


def _tag_step(push: _Push, repository: Repository, taking: Taking, existing: list[str], command: Command) -> Step:
    name = command.ref.removeprefix(_TAGS)
    if command.after == NO_OBJECT or Tag.objects.filter(shelf=push.shelf, name=name).exists():
        raise RefusedError(
            f"the tag {name} exists, and tags neither move nor go",
            code="tag.taken",
            short="tags never move",
            hint="Choose another name.",
        )
    require(push.caller, push.shelf, "tag")
    check_branch_name(name)
    found = tag_from_git(name, command.after, repository.read)
    if found is None:
        raise InvalidError(
            f"the tag {name} names no commit", code="git.tag", hint="A shelf keeps tags of commits only."
        )
    line = taking.read(found.commit, existing)
    return lambda: _tag(push, taking, found, line)


# --- recording ----------------------------------------------------------------------------


def _record(push: _Push, steps: list[Step]) -> None:
    """All in one transaction: commits, branches, tags, the log, and the jobs that follow."""
    with one_act():
        for step in steps:
            step()


def _advance(push: _Push, taking: Taking, name: str, branch: Branch | None, line: list[str], tip: str) -> None:
    made = taking.record(line)
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
        current.head = head
        current.save(update_fields=["head"])
    _follow(push, made, name)


def _follow(push: _Push, recorded: dict[str, Commit], name: str) -> None:
    """The log, and what is said of each version later."""
    made = list(recorded.values())
    if made:
        note(push.caller, "git.pushed", name, push.shelf, commits=len(made), head=made[-1].uid)
        start_job(push.caller, "describe", push.shelf, {"commits": [commit.uid for commit in made]})
        push.said.append(f"{len(made)} {'commit' if len(made) == 1 else 'commits'} recorded on {name}.")


def _delete(push: _Push, branch: Branch) -> None:
    note(push.caller, "branch.deleted", branch.name, push.shelf, head=branch.head.uid if branch.head else None)
    branch.delete()


def _tag(push: _Push, taking: Taking, found: FetchedTag, line: list[str]) -> None:
    made = taking.record(line)
    tag = keep_tag(push.shelf, found, taking.commit_of(found.commit))
    note(push.caller, "tag.made", found.tag.name, push.shelf, commit=tag.commit.uid)
    _follow(push, made, found.tag.name)

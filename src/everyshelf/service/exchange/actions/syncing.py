"""Sending and fetching over a link: what either side lacks goes there, and nothing on either side is overwritten.

Every step can be repeated: what was sent is there already, what was fetched has its commit already. So a link that was
cut off anywhere goes on when it is asked again, and counts nothing.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Any

import msgspec
from django.utils import timezone

from everyshelf.core.errors import EveryShelfError
from everyshelf.gitside.incoming import apart, take
from everyshelf.gitside.mapping import Fetched
from everyshelf.gitside.refs import git_ref
from everyshelf.gitside.remote import remote_of
from everyshelf.gitside.repository import NO_OBJECT, Repository
from everyshelf.gitside.tags import FetchedTag, tag_from_git
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.context import get_trees
from everyshelf.service.exchange.actions.bringing_back import Back, plan_back
from everyshelf.service.exchange.actions.bringing_out import bring_level, bring_out, join, not_alike
from everyshelf.service.exchange.actions.lines import (
    DELETED_HERE,
    DELETED_HERE_HINT,
    DELETED_THERE,
    DELETED_THERE_HINT,
    Line,
    may_be_branch,
    names_apart,
)
from everyshelf.service.exchange.actions.links import access_of, require_maker
from everyshelf.service.exchange.actions.repositories import folder_of, locked
from everyshelf.service.exchange.actions.showing import bring_up_to_date
from everyshelf.service.exchange.actions.sides import held_by, of_side
from everyshelf.service.exchange.actions.taking import Taking, keep_tag, recorded_now
from everyshelf.service.exchange.models import GitLink, GitPair, GitTransfer, SideCommit
from everyshelf.service.jobs.actions import start_job
from everyshelf.service.log.actions import note
from everyshelf.service.log.models import LogEntry
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions.lineage import lineage_of
from everyshelf.service.shelves.actions.merge_plan import MergeRequest, plan_merge
from everyshelf.service.shelves.actions.merging import MergeConflictError, prepare_merge_or_wait
from everyshelf.service.shelves.actions.recording import CommitMessage, require_branch
from everyshelf.service.shelves.models import Branch, Commit, Merge, Shelf, Tag

_HEADS, _TAGS = "refs/heads/", "refs/tags/"
_FIRST_WAIT, LONGEST_WAIT = timedelta(seconds=10), timedelta(hours=1)
Progress = Callable[[int, int, str], None]


@dataclass
class _Run:
    link: GitLink
    caller: Caller
    progress: Progress
    act: str = "look"
    lines: dict[str, Line] = field(default_factory=dict)

    @property
    def shelf(self) -> Shelf:
        return self.link.shelf

    @property
    def held(self) -> Shelf:
        """The shelf that the repository is a mapping of."""
        return held_by(self.link)

    @property
    def shared(self) -> dict[str, str]:
        """The newest commit of each branch that both sides are known to have (links of earlier versions: ``at``)."""
        return {line["branch"]: line.get("shared") or line.get("at", "") for line in self.link.lines}

    def tick(self) -> None:
        """Called while another machine is waited for: lets a cancel end that."""
        self.progress(0, 1, f"waiting for {self.link.name}")

    @property
    def sends(self) -> bool:
        return self.link.way in ("send", "both")

    @property
    def fetches(self) -> bool:
        return self.link.way in ("fetch", "both")


def sync(link: GitLink, act: str, progress: Progress) -> dict[str, Any]:
    """Do what the link is for. ``act``: "look" moves nothing; "send" and "fetch" go one way only; "both" goes all ways
    that the link may go. What went wrong is kept as the link's state and raised."""
    run = _Run(link, Caller(link.made_by), progress, act)
    newest = Commit.objects.filter(shelf=link.shelf).order_by("-pk").values_list("pk", flat=True).first()
    link.seen_commit = newest or 0
    try:
        require_maker(link)
        with locked(run.held):
            bring_up_to_date(run.held, progress)
            with Repository(folder_of(run.held)) as repository:
                there = remote_of(repository, access_of(link), run.tick).refs()
            comes_first = run.fetches and act in ("fetch", "both") and knows_nothing(link) and bool(there)
            if not comes_first:
                _bring(run)
            if run.fetches and act in ("fetch", "both"):
                _fetch(run, there)
                _bring(run)
            _note_waiting_parts(run, there)
            if run.sends and act in ("send", "both"):
                _bring_level(run, there)
                _send(run, there)
            _compare(run)
    except EveryShelfError as error:
        _failed(link, error)
        raise
    _keep_state(run)
    return {"state": link.state, "lines": [msgspec.to_builtins(line) for line in run.lines.values()]}


def knows_nothing(link: GitLink) -> bool:
    """Whether a link keeps a history of all of the shelf and has none yet. What is there then comes first, so that
    commits that the shelf has already are known again."""
    if link.side is None or link.folder or link.as_is_until:
        return False
    return not Commit.objects.filter(shelf=link.side).exists()


def _bring(run: _Run) -> None:
    """Let the repository have what the shelf has."""
    bring_out(run.link, run.progress)
    bring_up_to_date(run.held, run.progress)


def _bring_level(run: _Run, there: dict[str, str]) -> None:
    """Let files and their parts say the same on the branches that go out; not where a merge of them waits."""
    if run.link.side is not None:
        bring_level(run.link, [here for here, _ in pairs_of(run.link, there) if here not in run.lines])
        bring_up_to_date(run.held, run.progress)


# --- which branches ----------------------------------------------------------------------


def pairs_of(link: GitLink, there: dict[str, str]) -> list[tuple[str, str]]:
    """The branches that are joined, of the shelf and of Git; ``there``: what the other side has."""
    if link.branches:
        return [(here, other) for here, other in link.branches]
    names = set(link.shelf.branches.exclude(head=None).values_list("name", flat=True))
    waiting = tuple(_aside(one, "") for one in GitLink.objects.filter(shelf=link.shelf))
    names = {name for name in names if git_ref("heads", name) is not None and not name.startswith(waiting)}
    for ref in there:
        name = ref.removeprefix(_HEADS)
        if ref.startswith(_HEADS) and may_be_branch(name):
            names.add(name)
    return [(name, name) for name in sorted(names)]


def _aside(link: GitLink, branch: str) -> str:
    """The branch on which waits what cannot be merged by itself."""
    return f"git/{link.name}/{branch}"


def _parts_aside(link: GitLink, branch: str) -> str:
    """The branch on which waits what the parts of files say."""
    return f"git/{link.name}/{branch}.parts"


# --- fetching ----------------------------------------------------------------------------


def _fetch(run: _Run, there: dict[str, str]) -> None:
    """Bring what is new there, make it commits, and let the branches have them."""
    with apart(folder_of(run.held)) as repository:
        remote = remote_of(repository, access_of(run.link), run.tick)
        wanted = [(here, other) for here, other in pairs_of(run.link, there) if f"{_HEADS}{other}" in there]
        below = f"refs/links/{run.link.pk}"
        refs = {f"{_HEADS}{other}": f"{below}/heads/{other}" for _, other in wanted}
        if run.link.tags:
            refs |= {name: f"{below}/tags/{name.removeprefix(_TAGS)}" for name in there if name.startswith(_TAGS)}
        known = set(GitPair.objects.filter(shelf=run.held, mapping="").values_list("git", flat=True))
        wanted = [pair for pair in wanted if not _was_deleted_here(run, *pair, there[f"{_HEADS}{pair[1]}"] in known)]
        lacking = {name: here for name, here in refs.items() if there[name] not in known}
        remote.fetch(lacking)
        now = timezone.now()

        def as_claimed(claimed: datetime, soonest: datetime) -> datetime:
            return max(min(claimed, now), soonest)

        recorded_at = as_claimed if run.caller.may_import else recorded_now(now)
        taking = Taking(run.caller, run.held, repository, _take_all, recorded_at, run.progress)
        existing = list(repository.refs(_HEADS, _TAGS).values())
        tags = _new_tags(run, there, repository)
        tips = [*(there[f"{_HEADS}{other}"] for _, other in wanted), *(found.commit for found in tags)]
        taking.read(tips, existing)
        for tip in tips:
            taking.require(tip)
        take(repository)
        for here, other in wanted:
            _take_branch(run, taking, here, other, there[f"{_HEADS}{other}"])
        for found in tags:
            _take_tag(run, taking, found)
        left = repository.refs(f"{below}/")
        repository.move_refs({name: (identity, NO_OBJECT) for name, identity in left.items()})


def _was_deleted_here(run: _Run, here: str, other: str, brings_nothing: bool) -> bool:
    """Whether someone deleted the branch on the shelf, and nothing was added to it in Git since: it stays deleted."""
    if not brings_nothing or Branch.objects.filter(shelf=run.shelf, name=here).exists():
        return False
    if not LogEntry.objects.filter(shelf=run.shelf.key, act="branch.deleted", subject=here).exists():
        return False
    run.lines[here] = Line(here, other, "behind", why=DELETED_HERE, hint=DELETED_HERE_HINT.format(here))
    return True


def _take_all(_fetched: Fetched, _before: str) -> None:
    """Whatever a repository has comes in; what the shelf has no place for is kept for Git."""


def _new_tags(run: _Run, there: dict[str, str], repository: Repository) -> list[FetchedTag]:
    if not run.link.tags:
        return []
    taken = set(Tag.objects.filter(shelf=run.shelf).values_list("name", flat=True))
    found = []
    for ref, identity in sorted(there.items()):
        name = ref.removeprefix(_TAGS)
        if not ref.startswith(_TAGS) or name in taken or not may_be_branch(name):
            continue
        tag = tag_from_git(name, identity, repository.read)
        if tag is not None:
            found.append(tag)
    return found


def _take_tag(run: _Run, taking: Taking, found: FetchedTag) -> None:
    """Record a tag that came, with the commits that only it leads to."""
    line = taking.line(found.commit)
    back = _plan_back(run, taking, line, found.commit)
    with one_act():
        _, clashes = _record_taken(run, taking, line, back)
        if clashes:
            _set_aside(run, _parts_aside(run.link, found.tag.name), clashes[-1])  # a tag has no branch to merge it into
        there = taking.commit_of(found.commit)
        here = of_side(run.link, there)
        if run.link.side is not None:
            keep_tag(run.held, found, there)
            found = replace(found, residue=b"")  # it is kept with the tag of the side
        if here is not None:
            keep_tag(run.shelf, found, here)
            note(run.caller, "tag.made", found.tag.name, run.shelf, link=run.link.name)


def _take_branch(run: _Run, taking: Taking, here: str, other: str, tip: str) -> None:
    """Let the branch have what came: as it is, or merged by meaning with what was made here meanwhile."""
    line = taking.line(tip)
    back = _plan_back(run, taking, line, tip)
    with one_act():
        made, clashes = _record_taken(run, taking, line, back)
        if clashes:
            _set_aside(run, _parts_aside(run.link, here), clashes[-1])
        if made:
            _note_transfers(run, [(commit.pk, git) for git, commit in made.items()], here, fetched=True)
            start_job(run.caller, "describe", run.shelf, {"commits": [commit.uid for commit in made.values()]})
        to_merge = _move_branch(run, taking, here, tip, len(made))
    if to_merge is not None:
        _merge(run, *to_merge, other, _aside(run.link, here))
    _merge_parts(run, here, other, clashes)


def _move_branch(run: _Run, taking: Taking, here: str, tip: str, made: int) -> tuple[Branch, Commit] | None:
    """Let a branch have a commit that came if it can without a merge; else gives both."""
    came = of_side(run.link, taking.commit_of(tip))
    branch = Branch.objects.select_related("head").filter(shelf=run.shelf, name=here).first()
    if came is None:  # the part is not there yet
        if branch is not None and branch.head is not None:
            join(run.link, branch, taking.commit_of(tip), timezone.now())
        return None
    if branch is None:
        now, person = timezone.now(), run.caller.person.username
        Branch.objects.create(shelf=run.shelf, name=here, head=came, created=now, created_by=person)
        note(run.caller, "branch.made", here, run.shelf, ref=came.uid, link=run.link.name)
        if made:
            _note_fetched(run, here, came, made)
        return None
    lineage = lineage_of(run.shelf)
    if branch.head is not None and came.pk in lineage.ancestors(branch.head.pk):
        if run.link.side is not None:
            join(run.link, branch, taking.commit_of(tip), timezone.now())
        return None
    require_branch(run.caller, run.shelf, branch)
    if branch.head is None or branch.head.pk in lineage.ancestors(came.pk):
        branch.head = came
        branch.save(update_fields=["head"])
        _note_fetched(run, here, came, made)
        return None
    return branch, came


def _plan_back(run: _Run, taking: Taking, line: list[str], tip: str) -> Back | None:
    """Record on the side what came, which is what the repository holds, and work out what that is on the shelf: up to
    ``tip``, as what does not go together is merged into the branch that it came on."""
    if run.link.side is None:
        return None
    with one_act():
        taking.record(line)
    return plan_back(run.link, taking.commit_of(tip), run.progress)


def _record_taken(
    run: _Run, taking: Taking, line: list[str], back: Back | None
) -> tuple[dict[str, Commit], list[Commit]]:
    """Record what came. Gives the commits the shelf did not have, by their ids in Git, and what parts of files say that
    do not go together with them."""
    if back is None:
        return taking.record(line), []
    fresh, clashes = back.record(run.caller)
    sides = dict(SideCommit.objects.filter(link=run.link, commit__in=fresh).values_list("side", "commit"))
    gits = dict(GitPair.objects.filter(shelf=run.held, commit__in=sides).values_list("commit", "git"))
    commits = {commit.pk: commit for commit in fresh}
    return {git: commits[sides[side]] for side, git in gits.items()}, clashes


def _note_fetched(run: _Run, branch: str, head: Commit, commits: int) -> None:
    note(run.caller, "git.fetched", branch, run.shelf, commits=commits, head=head.uid, link=run.link.name)


def _merge(run: _Run, branch: Branch, came: Commit, other: str, aside: str) -> None:
    """Both sides went on: merge by meaning; what cannot be decided waits on a branch of its own."""
    assert branch.head is not None
    base_key = lineage_of(run.shelf).base(branch.head.pk, came.pk)
    base = Commit.objects.get(pk=base_key) if base_key is not None else None
    root = base.root if base is not None else get_trees().empty
    request = MergeRequest(root, came.root, base, came, [], branch.name, aside)
    plan_merge(run.caller.person, run.shelf, request, branch.head, progress=run.progress)
    message = CommitMessage(f"Merge {other} of {run.link.name}"[:300])
    try:
        prepared, _ = prepare_merge_or_wait(run.caller, run.shelf, branch, request, message, None)
    except MergeConflictError as error:
        with one_act():
            _set_aside(run, aside, came)
        waits = str(error.facts.get("merge", ""))
        run.lines[branch.name] = Line(branch.name, other, "diverged", merge=waits, why=error.message, hint=error.hint)
        return
    if prepared is not None:
        prepared.record()
        Branch.objects.filter(shelf=run.shelf, name=aside).delete()


def _set_aside(run: _Run, name: str, head: Commit) -> None:
    now, person = timezone.now(), run.caller.person.username
    Branch.objects.update_or_create(
        shelf=run.shelf, name=name, defaults={"head": head, "created": now, "created_by": person}
    )


def _merge_parts(run: _Run, here: str, other: str, clashes: list[Commit]) -> None:
    """Merge what parts of files say that did not go together with the files themselves; it waits until it is settled,
    also what waits since an earlier time."""
    aside = _parts_aside(run.link, here)
    waiting = Branch.objects.select_related("head").filter(shelf=run.shelf, name=aside).first()
    if waiting is None or waiting.head is None:
        return
    for one in [*clashes[:-1], waiting.head]:
        branch = Branch.objects.select_related("head").get(shelf=run.shelf, name=here)
        assert branch.head is not None
        if one.pk not in lineage_of(run.shelf).ancestors(branch.head.pk):
            _merge(run, branch, one, other, aside)
        elif one == waiting.head:
            with one_act():
                waiting.delete()


def _note_waiting_parts(run: _Run, there: dict[str, str]) -> None:
    """A branch on which a file and its parts wait to be merged has diverged: nothing is laid over what waits."""
    if run.link.side is None:
        return
    pairs = {_parts_aside(run.link, here): (here, other) for here, other in pairs_of(run.link, there)}
    waiting = Merge.objects.filter(shelf=run.shelf, state="open", source__in=pairs).order_by("pk")
    for merge in waiting:
        here, other = pairs[merge.source]
        if merge.target == here and here not in run.lines:
            run.lines[here] = Line(here, other, "diverged", merge=merge.uid, why=_PARTS_WAIT, hint=_PARTS_HINT)


_PARTS_WAIT = "a file and its parts were both changed in Git and do not go together"
_PARTS_HINT = "Settle it: everyshelf settle"


# --- sending -----------------------------------------------------------------------------


def _send(run: _Run, there: dict[str, str]) -> None:
    """Let the other side have what it lacks; a branch that has something of its own there is left as it is."""
    with Repository(folder_of(run.held)) as repository:
        ours = repository.refs(_HEADS, _TAGS)
        wanted: dict[str, str] = {}
        of_branch: dict[str, tuple[str, str]] = {}
        for here, other in pairs_of(run.link, there):
            ref, tip = f"{_HEADS}{other}", ours.get(f"{_HEADS}{here}")
            if tip is None or there.get(ref) == tip or here in run.lines:
                continue
            if ref not in there and there and run.shared.get(here) == tip:
                hint = DELETED_THERE_HINT.format(here)
                run.lines[here] = Line(here, other, "ahead", why=DELETED_THERE, hint=hint)
                continue
            if ref in there and not _has(repository, there[ref], tip):
                if run.shared.get(here) == tip:
                    continue  # nothing new here: the other side went on
                run.lines[here] = Line(here, other, "diverged", why=_DIVERGED, hint=_DIVERGED_HINT)
                continue
            wanted[ref], of_branch[ref] = tip, (here, other)
        if run.link.tags:
            wanted |= {name: tip for name, tip in ours.items() if name.startswith(_TAGS) and name not in there}
        refused = remote_of(repository, access_of(run.link)).send(wanted)
        known = [tip for tip in there.values() if _is_here(repository, tip)]
        main_first = sorted(of_branch.items(), key=lambda item: item[1][0] != run.shelf.main_branch)
        for ref, (here, other) in main_first:
            if ref in refused:
                error = refused[ref]
                state = "diverged" if error.code == "git.diverged" else "refused"
                run.lines[here] = Line(here, other, state, why=error.message, hint=error.hint)
            else:
                _note_sent(run, repository, here, wanted[ref], known)
                known.append(wanted[ref])
                there[ref] = wanted[ref]


_DIVERGED = "both sides have commits that the other lacks"
_DIVERGED_HINT = "Fetch them first: everyshelf git-link fetch NAME (the link has to be one that fetches)."


def _has(repository: Repository, before: str, after: str) -> bool:
    """Whether a commit that is there is one that ours is built on."""
    if not _is_here(repository, before):
        return False
    return repository.run("rev-list", "--count", "--max-count=1", before, f"^{after}").strip() == b"0"


def _is_here(repository: Repository, identity: str) -> bool:
    """Whether our copy has a commit, or a tag of one."""
    return repository.run("cat-file", "-t", identity, fine=(0, 128)).strip() in (b"commit", b"tag")


def _note_sent(run: _Run, repository: Repository, branch: str, tip: str, known: list[str]) -> None:
    """Note the commits that went there with a branch; ``known``: what was there before."""
    line = list(repository.line([tip], known))
    commits: dict[str, int] = {}
    for start in range(0, len(line), 500):
        rows = GitPair.objects.filter(shelf=run.held, mapping="", git__in=line[start : start + 500])
        if run.link.side is None:
            commits.update(rows.values_list("git", "commit"))
        else:
            found = ((row.git, of_side(run.link, row.commit)) for row in rows.select_related("commit"))
            commits.update({git: commit.pk for git, commit in found if commit is not None})
    _note_transfers(run, [(commits[git], git) for git in line if git in commits], branch, fetched=False)


def _note_transfers(run: _Run, pairs: list[tuple[int, str]], branch: str, *, fetched: bool) -> None:
    now = timezone.now()
    with one_act():
        GitTransfer.objects.bulk_create(
            [
                GitTransfer(link=run.link, fetched=fetched, commit_id=commit, git=git, branch=branch, at=now)
                for commit, git in pairs
            ],
            batch_size=500,
        )


# --- how far they are --------------------------------------------------------------------


def _compare(run: _Run) -> None:
    """How far each branch is from its other side now."""
    with Repository(folder_of(run.held)) as repository:
        there = remote_of(repository, access_of(run.link)).refs()
        ours = repository.refs(_HEADS)
        for here, other in pairs_of(run.link, there):
            mine, theirs = ours.get(f"{_HEADS}{here}"), there.get(f"{_HEADS}{other}")
            found = _apart(repository, (here, other), (mine, theirs), has_news=run.shared.get(here) != mine)
            known = run.lines.get(here)
            if known is not None:
                known.ahead, known.behind = found.ahead, found.behind
            else:
                run.lines[here] = known = found
                found.why = not_alike(run.link, here)
                found.hint = _NOT_ALIKE_HINT if found.why else ""
            known.shared = found.shared or run.shared.get(here, "")
        if run.fetches:
            tags = repository.refs(_TAGS) if run.link.tags else None
            branches = [] if run.link.branches else [r.removeprefix(_HEADS) for r in there if r.startswith(_HEADS)]
            for line in names_apart(there, tags, branches, was_fetched=run.act in ("fetch", "both")):
                run.lines[line.branch] = line


_NOT_ALIKE_HINT = "Correct it in Git, or put the folder back as it was: the file stays as it is until then."


def _apart(
    repository: Repository, names: tuple[str, str], tips: tuple[str | None, str | None], *, has_news: bool
) -> Line:
    """``names`` and ``tips`` of a branch, here and there. ``has_news``: Git is not known to have what is here."""
    (here, other), (mine, theirs) = names, tips
    if mine == theirs:
        return Line(here, other, "in step", shared=mine or "")
    if theirs is None:
        return Line(here, other, "ahead", ahead=_count(repository, mine))
    if mine is None:
        return Line(here, other, "behind", behind=0)
    if not _is_here(repository, theirs):  # how far is known once it is fetched
        return Line(here, other, "diverged" if has_news else "behind")
    ahead, behind = _count(repository, mine, theirs), _count(repository, theirs, mine)
    state = "diverged" if ahead and behind else "ahead" if ahead else "behind"
    shared = mine if not ahead else theirs if not behind else ""
    return Line(here, other, state, ahead=ahead, behind=behind, shared=shared)


def _count(repository: Repository, tip: str | None, without: str | None = None) -> int:
    given = [tip or "", *([f"^{without}"] if without else [])]
    return int(repository.run("rev-list", "--count", *given))


_WORST = ("refused", "diverged", "behind", "ahead", "in step")


def _keep_state(run: _Run) -> None:
    link = run.link
    lines = list(run.lines.values())
    state = next((word for word in _WORST if any(line.state == word for line in lines)), "in step")
    worst = next((line for line in lines if line.state == state and line.why), None)
    code = "git.parts" if state == "in step" else f"link.{state}"
    problem = {"detail": worst.why, "hint": worst.hint, "code": code} if worst is not None else {}
    now = timezone.now()
    if link.state != state:
        link.since = now
    link.state, link.problem, link.looked, link.tries = state, problem, now, 0
    link.lines = [msgspec.to_builtins(line) for line in lines]
    link.next_look = now + timedelta(seconds=link.every_seconds)
    _save(link)


def _failed(link: GitLink, error: EveryShelfError) -> None:
    """Keep why it failed; a link that follows tries again later, after waiting longer each time."""
    now = timezone.now()
    if link.state != "refused":
        link.since = now
    link.state, link.looked, link.tries = "refused", now, link.tries + 1
    link.problem = {"detail": error.message, "hint": error.hint, "code": error.code}
    link.next_look = now + min(LONGEST_WAIT, _FIRST_WAIT * 2 ** min(link.tries, 12))
    _save(link)


def _settings_of(link: GitLink) -> tuple[Any, ...]:
    sealed = [bytes(one) if one is not None else None for one in (link.token, link.key)]
    said = (link.address, link.user, link.known_hosts, link.way, link.branches, link.tags, link.parts, link.follows)
    return (*said, *sealed)


def _save(link: GitLink) -> None:
    fields = ["state", "problem", "looked", "tries", "since", "next_look", "lines", "seen_commit"]
    with one_act():
        now = GitLink.objects.filter(pk=link.pk).first()
        if now is not None and _settings_of(now) != _settings_of(link):
            link.next_look = timezone.now()  # it was changed meanwhile, and has to be looked at as it is now
        # A link that was removed since has no state any more.
        GitLink.objects.filter(pk=link.pk).update(**{name: getattr(link, name) for name in fields})

"""A commit and everything it is part of: lines, tags, environments, proposals, runs, checks, Git."""

from __future__ import annotations

from django.db.models import Q

from everyshelf.core.answers.commits import (
    CheckWith,
    CommitPlaces,
    GitIdOf,
    NearCommit,
    ProposalWith,
    ReachedPlace,
    RunWith,
    TagWith,
)
from everyshelf.service.base.context import get_trees
from everyshelf.service.checks.actions import checks_of
from everyshelf.service.environments.actions.environments import list_environments
from everyshelf.service.environments.actions.manifests import last_deployment
from everyshelf.service.exchange.models import GitPair, GitTransfer
from everyshelf.service.experiments.models import Run
from everyshelf.service.proposals.models import Proposal
from everyshelf.service.shelves.actions.lineage import Lineage, lineage_of
from everyshelf.service.shelves.actions.undoing import LABEL
from everyshelf.service.shelves.models import Commit, CommitParent, Shelf
from everyshelf.service.tasks.actions.mentions import read_new_commits
from everyshelf.service.tasks.models import TaskMention

_MOST = 50
_MOST_TAGS = 10


def places_of(shelf: Shelf, commit: Commit) -> CommitPlaces:
    """Everything a commit is part of now."""
    lineage = lineage_of(shelf)
    read_new_commits(shelf)
    branches = [branch for branch in shelf.branches.select_related("head").order_by("name") if branch.head_id]
    inside = [b for b in branches if b.head_id is not None and commit.pk in lineage.ancestors(b.head_id)]
    inside.sort(key=lambda branch: (branch.name != shelf.main_branch, branch.name))
    main = next((branch for branch in inside if branch.name == shelf.main_branch), None)
    return CommitPlaces(
        commit=commit.uid,
        parents=_parents(commit),
        next=_next(commit),
        branches=[branch.name for branch in inside],
        tags=_tags(shelf, commit, lineage),
        environments=_environments(shelf, commit, lineage),
        proposals=_proposals(shelf, commit),
        runs=_runs(commit),
        checks=[CheckWith(name=c.name, passed=c.passed, comment=c.comment) for c in checks_of(commit)],
        git=_git(commit),
        tasks=sorted(TaskMention.objects.filter(commit=commit).values_list("task", flat=True)),
        artifacts=commit.versions.count(),
        restored=get_trees().count(commit.root),
        later=lineage.divergence(main.head_id, commit.pk)[0] if main is not None else 0,
        undone_by=_undone_by(shelf, commit),
    )


def _parents(commit: Commit) -> list[NearCommit]:
    links = CommitParent.objects.filter(commit=commit).select_related("parent").order_by("position")
    return [_near(link.parent, merged=link.position > 0) for link in links]


def _next(commit: Commit) -> list[NearCommit]:
    links = CommitParent.objects.filter(parent=commit).select_related("commit").order_by("position", "pk")
    return [_near(link.commit, merged=link.position > 0) for link in links[:_MOST]]


def _near(commit: Commit, *, merged: bool) -> NearCommit:
    return NearCommit(
        commit=commit.uid, summary=commit.summary, author=commit.author, recorded=commit.recorded, merged=merged
    )


def _undone_by(shelf: Shelf, commit: Commit) -> list[NearCommit]:
    later = shelf.commits.filter(pk__gt=commit.pk, **{f"labels__{LABEL}": commit.uid[:12]}).order_by("pk")
    return [_near(one, merged=False) for one in later[:_MOST]]


def _tags(shelf: Shelf, commit: Commit, lineage: Lineage) -> list[TagWith]:
    """The tags that have it in them, the nearest first."""
    found = []
    for tag in shelf.tags.filter(commit__gte=commit.pk).order_by("commit", "name"):
        if commit.pk in lineage.ancestors(tag.commit_id):
            found.append(TagWith(name=tag.name, later=lineage.divergence(tag.commit_id, commit.pk)[0]))
        if len(found) == _MOST_TAGS:
            break
    return found


def _environments(shelf: Shelf, commit: Commit, lineage: Lineage) -> list[ReachedPlace]:
    found = []
    for environment in list_environments(shelf):
        last = last_deployment(environment)
        reached = last is not None and commit.pk in lineage.ancestors(last.commit_id)
        tag = last.tag.name if last is not None and last.tag is not None else ""
        since = last.ended if last is not None else None
        found.append(ReachedPlace(environment=environment.name, reached=reached, tag=tag, since=since))
    return found


def _proposals(shelf: Shelf, commit: Commit) -> list[ProposalWith]:
    rows = Proposal.objects.filter(shelf=shelf).filter(Q(head=commit) | Q(merged=commit)).order_by("-number")
    return [
        ProposalWith(number=one.number, title=one.title, state=one.state, merged=one.merged_id == commit.pk)
        for one in rows[:_MOST]
    ]


def _runs(commit: Commit) -> list[RunWith]:
    rows = Run.objects.filter(Q(commit=commit) | Q(base=commit)).select_related("experiment").order_by("-pk")
    return [
        RunWith(
            experiment=run.experiment.key,
            question=run.experiment.question,
            number=run.number,
            made=run.commit_id == commit.pk,
        )
        for run in rows[:_MOST]
    ]


def _git(commit: Commit) -> list[GitIdOf]:
    """The id in the repository of the shelf, and those under which it went over links."""
    own = GitPair.objects.filter(commit=commit, mapping="").values_list("git", flat=True).first()
    found = [GitIdOf(git=own, link="", fetched=False)] if own else []
    rows = GitTransfer.objects.filter(commit=commit).select_related("link").order_by("pk")
    return found + [GitIdOf(git=t.git, link=t.link.name, fetched=t.fetched, at=t.at) for t in rows[:_MOST]]

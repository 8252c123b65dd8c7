"""Bringing the shelf's repository up to date: every commit, branch and tag of the shelf, as Git has them."""

from __future__ import annotations

from collections import defaultdict
from functools import partial

from everyshelf.core.history.commits import decode_commit
from everyshelf.gitside.mapping import Parent, ShelfCommit
from everyshelf.gitside.objects import object_id
from everyshelf.gitside.refs import git_ref
from everyshelf.gitside.repository import NO_OBJECT, Repository
from everyshelf.gitside.tags import ShelfTag, tag_to_git
from everyshelf.service.base.acts import aside
from everyshelf.service.base.context import get_store
from everyshelf.service.exchange.actions.ahead import in_lines, looked_ahead
from everyshelf.service.exchange.actions.repositories import forget, is_lost, mapping_of, opened, trees_for_history
from everyshelf.service.exchange.models import GitPair, KeptTag
from everyshelf.service.shelves.actions.recording import Progress, no_progress
from everyshelf.service.shelves.models import Commit, CommitParent, Shelf

_AT_ONCE = 500


def bring_up_to_date(shelf: Shelf, progress: Progress = no_progress) -> None:
    """Let the repository have what the shelf has; call it ``locked``. One that was damaged is made again."""
    try:
        with opened(shelf) as repository:
            _bring(shelf, repository, progress)
    except Exception as error:
        if not is_lost(error):
            raise
        forget(shelf)
        with opened(shelf) as repository:
            _bring(shelf, repository, progress)


def _bring(shelf: Shelf, repository: Repository, progress: Progress) -> None:
    map_commits(shelf, repository, progress)
    there = repository.refs("refs/heads/", "refs/tags/")
    wanted = _refs(shelf, repository, there)
    moves = {n: (there.get(n, NO_OBJECT), identity) for n, identity in wanted.items() if there.get(n) != identity}
    moves |= {name: (identity, NO_OBJECT) for name, identity in there.items() if name not in wanted}
    # A name that goes may be in the way of one that comes: main of main/old.
    for gone in (True, False):
        some = {name: move for name, move in moves.items() if (move[1] == NO_OBJECT) == gone}
        if some:
            repository.move_refs(some)
    head = git_ref("heads", shelf.main_branch)
    if head is not None and repository.run("symbolic-ref", "HEAD").decode().strip() != head:
        repository.run("symbolic-ref", "HEAD", head)


def map_commits(shelf: Shelf, repository: Repository, progress: Progress = no_progress) -> None:
    """Write every commit of the shelf that the repository lacks; pairs are recorded once their objects are there."""
    mapping = mapping_of(shelf, repository, trees_for_history())
    lacking = Commit.objects.filter(shelf=shelf).exclude(git_pairs__mapping="")
    keys = list(lacking.order_by("generation", "pk").values_list("pk", flat=True))
    made: list[GitPair] = []  # of commits whose objects are being taken in
    for first, line in in_lines(keys):
        tick = partial(progress, first, len(keys), "")
        with looked_ahead(line, tick) as ahead:
            for start in range(0, len(line), _AT_ONCE):
                some = line[start : start + _AT_ONCE]
                rows = Commit.objects.filter(pk__in=some).values_list("pk", "uid", "recorded", "summary")
                commits = {key: (uid, recorded, summary) for key, uid, recorded, summary in rows}
                parents, pairs = _parents_of(some)
                pairs |= {pair.commit_id: pair.git for pair in made}
                fresh: list[GitPair] = []
                for place, key in enumerate(some, start):
                    uid, recorded, summary = commits[key]
                    progress(first + place, len(keys), summary)
                    data = decode_commit(get_store().read(uid))
                    above = [Parent(root, pairs[parent]) for parent, root in parents[key]]
                    pairs[key] = mapping.to_git(ShelfCommit(uid, data, recorded), above, ahead.seen(place))
                    fresh.append(GitPair(shelf_id=shelf.pk, commit_id=key, git=pairs[key]))
                repository.settle()
                _keep(made)
                repository.begin_flush()
                made = fresh
    repository.settle()
    _keep(made)


def _keep(pairs: list[GitPair]) -> None:
    with aside():
        GitPair.objects.bulk_create(pairs, batch_size=_AT_ONCE)


def _parents_of(keys: list[int]) -> tuple[dict[int, list[tuple[int, str]]], dict[int, str]]:
    """The parents of each commit with their roots, and what those of them are in Git that were mapped before."""
    parents: dict[int, list[tuple[int, str]]] = defaultdict(list)
    links = CommitParent.objects.filter(commit__in=keys).order_by("commit", "position")
    for commit, parent, root in links.values_list("commit", "parent", "parent__root"):
        parents[commit].append((parent, root))
    above = {parent for found in parents.values() for parent, _ in found}
    pairs = GitPair.objects.filter(commit__in=above, mapping="").values_list("commit", "git")
    return parents, dict(pairs)


def _refs(shelf: Shelf, repository: Repository, there: dict[str, str]) -> dict[str, str]:
    """Every branch and tag that Git may name as the shelf does; ``there``: what the repository has."""
    heads = dict(shelf.branches.exclude(head=None).values_list("name", "head"))
    tags = list(shelf.tags.order_by("pk"))
    keys = {*heads.values(), *(tag.commit_id for tag in tags)}
    pairs = dict(GitPair.objects.filter(commit__in=keys, mapping="").values_list("commit", "git"))
    kept = dict(KeptTag.objects.filter(tag__shelf=shelf).values_list("tag", "content"))
    found: dict[str, str] = {}
    for name, head in heads.items():
        if (ref := git_ref("heads", name)) is not None:
            found[ref] = pairs[head]
    for tag in tags:
        if (ref := git_ref("tags", tag.name)) is None:
            continue
        selection = tuple(tag.selection) if tag.selection is not None else None
        shown = ShelfTag(tag.name, tag.note, tag.created_by, tag.created, selection)
        residue = get_store().read(kept[tag.pk]) if tag.pk in kept else b""
        found[ref] = tag_to_git(shown, pairs[tag.commit_id], residue, object_id)
        if there.get(ref) != found[ref]:
            tag_to_git(shown, pairs[tag.commit_id], residue, repository.put)
    repository.flush()
    return found

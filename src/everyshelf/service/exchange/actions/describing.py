"""A shelf's commits as Git has them, for people to look at."""

from __future__ import annotations

from everyshelf.core.answers.exchange import GitCommit, GitPage
from everyshelf.core.history.commits import decode_commit
from everyshelf.gitside.residue import NOTHING, GitResidue, decode_residue, in_words
from everyshelf.service.base.context import get_store
from everyshelf.service.base.paging import decode_cursor, encode_cursor
from everyshelf.service.exchange.models import GitPair
from everyshelf.service.shelves.models import Commit, Shelf

_MOST = 200


def list_git_commits(shelf: Shelf, limit: int = 50, cursor: str = "") -> GitPage:
    """A page of commits of all branches, those recorded last first."""
    start, limit = decode_cursor(cursor), min(limit, _MOST)
    rows = Commit.objects.filter(shelf=shelf).order_by("-pk")
    page, total = list(rows[start : start + limit]), rows.count()
    pairs = dict(GitPair.objects.filter(commit__in=page, mapping="").values_list("commit", "git"))
    after = start + len(page)
    return GitPage(
        address=f"/git/{shelf.key}.git",
        total=total,
        items=[_commit(commit, pairs.get(commit.pk)) for commit in page],
        next=encode_cursor(after) if after < total else None,
    )


def _commit(commit: Commit, git: str | None) -> GitCommit:
    residue = residue_of(commit)
    return GitCommit(
        commit=commit.uid,
        git=git,
        summary=commit.summary,
        author=commit.author,
        recorded=commit.recorded,
        came=residue.author is not None or residue.whole is not None,
        kept=in_words(residue),
    )


def residue_of(commit: Commit) -> GitResidue:
    """What is kept for Git with a commit."""
    kept = decode_commit(get_store().read(commit.uid)).git
    return decode_residue(get_store().read(kept)) if kept else NOTHING

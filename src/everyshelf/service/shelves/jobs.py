"""The jobs of shelves: describing commits, long comparisons and merges, verifying."""

from __future__ import annotations

from typing import Any

from everyshelf.core.compare.sentences import headline
from everyshelf.core.history.trees import Entry
from everyshelf.core.kinds.rules import parse_rules
from everyshelf.service.jobs.actions import Run, Sort, job_kind
from everyshelf.service.shelves.actions.comparing import compare_pair
from everyshelf.service.shelves.actions.comparison import compare_states
from everyshelf.service.shelves.actions.describing import describe_commit, followers
from everyshelf.service.shelves.actions.long_commits import KIND, make_long_commit
from everyshelf.service.shelves.actions.merge_plan import work_out
from everyshelf.service.shelves.actions.pairs import Pairing
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.actions.table_rows import KIND as ROWS
from everyshelf.service.shelves.actions.table_rows import keep_rows
from everyshelf.service.shelves.actions.verify import verify_shelf
from everyshelf.service.shelves.models import Commit


@job_kind("describe", resumes=True, sort=Sort.AFTER)
def describe(run: Run) -> dict[str, Any] | None:
    """Say of each version that commits made what it changed, and whatever follows that. All of it passes over what is
    done already, so that a large commit can give way to others."""
    uids = run.parameters.get("commits") or [run.parameters["commit"]]
    for done, uid in enumerate(uids):

        def step(done: int = done, uid: str = uid) -> None:
            run.progress(done, len(uids), uid[:8])
            run.give_way()

        step()
        commit = Commit.objects.get(uid=uid, shelf=run.job.shelf)
        describe_commit(commit, step)
        for follow in followers:
            follow(commit, step)
    return {"commit": uids[-1]}


@job_kind("compare", resumes=True)
def compare(run: Run) -> dict[str, Any] | None:
    """Work out a comparison that takes long; the answer is then found in the records."""
    before, after = (resolve(run.shelf, f"commit:{run.parameters[side]}") for side in ("from", "to"))
    found = compare_states(run.shelf, before, after, budget=None, progress=run.progress)
    return {"sentence": found.sentence}


@job_kind("compare-artifact", resumes=True)
def compare_artifact(run: Run) -> dict[str, Any] | None:
    """Work out the comparison of two large contents; the answer is then found in the records."""
    given = run.parameters
    old, new = (
        Entry(given[f"{side}_path"], given.get(f"{side}_type", "artifact"), given[side], given[f"{side}_size"])
        for side in ("before", "after")
    )
    before, after = (
        {name: Entry(name, "artifact", *held) for name, held in side.items()} for side in given.get("beside", [{}, {}])
    )
    pair = Pairing(given["after_path"], given["before_path"], old, new, (before, after))
    rules = parse_rules(given["rules"])
    parts = (0, 1)

    def tell(done: int, total: int) -> None:
        nonlocal parts
        parts = done, total
        run.progress(done, total, pair.path)

    found = compare_pair(pair, rules, "job", tick=lambda: run.progress(parts[0], parts[1], pair.path), tell=tell)
    assert found is not None
    return {"headline": headline(found)}


@job_kind(KIND, resumes=True)
def commit(run: Run) -> dict[str, Any] | None:
    """Make a commit of thousands of artifacts."""
    return make_long_commit(run)


@job_kind("merge", resumes=True)
def merge(run: Run) -> dict[str, Any] | None:
    """Work out a merge that takes long; who asks again finds the answer in the records."""
    return work_out(run)


@job_kind(ROWS, resumes=True)
def rows(run: Run) -> dict[str, Any] | None:
    """Keep a large table so that it can be paged."""
    given = run.parameters
    entry = Entry(given["path"].rpartition("/")[2], given["type"], given["content"], given["size"])
    count = keep_rows(given["path"], entry, given["rules"], given["table"], lambda: run.progress(0, 1, given["path"]))
    return {"rows": count}


@job_kind("verify", resumes=True, sort=Sort.VERIFY)
def verify(run: Run) -> dict[str, Any] | None:
    """Re-read the whole shelf."""
    return verify_shelf(run.shelf, run.progress)

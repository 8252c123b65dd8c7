"""One commit: what it says and changed, and everything it is part of (``history --commit``)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from everyshelf.cli import terminal

if TYPE_CHECKING:
    from everyshelf.client import CommitListed, ShelfClient
    from everyshelf.core.answers.commits import CommitPlaces, NearCommit

_AT = 14


def show_commit(shelf: ShelfClient, uid: str, as_json: bool) -> None:
    """Show a commit by the beginning of its id."""
    [commit] = shelf.commits(f"commit:{uid.removeprefix('commit:')}", 1)
    places = shelf.commit_places(commit.commit)
    if as_json:
        terminal.print_json({"commit": commit, "places": places})
        return
    terminal.say(terminal.bold(f"“{commit.summary}”"))
    if commit.description:
        terminal.paragraph(commit.description, indent=2)
    terminal.say(f"  {commit.author}, {terminal.when(commit.recorded)}")
    for name, text in _facts(commit, places):
        terminal.labelled(name, text, at=_AT)
    _show_artifacts(commit)
    if places.later:
        terminal.next_step(f"everyshelf undo {commit.commit[:8]} --show")


def _facts(commit: CommitListed, places: CommitPlaces) -> Iterator[tuple[str, str]]:
    yield "commit", commit.commit
    for near in places.parents:
        yield "parent", _near(near)
    for near in places.next:
        yield "next", _near(near)
    for near in places.undone_by:
        yield "undone by", _near(near)
    yield "branches", ", ".join(places.branches) or "none now"
    labels = ", ".join(f"{key} {value}" for key, value in commit.labels.items())
    yield from ((name, text) for name, text in (("labels", labels), ("tasks", ", ".join(places.tasks))) if text)
    for tag in places.tags:
        later = f", {terminal.count(tag.later, 'commit')} later" if tag.later else ""
        yield "tag", f"tag:{tag.name}{later}"
    for place in places.environments:
        since = f"tag:{place.tag}, since {terminal.when(place.since)}" if place.since else "yes"
        yield "environment", f"{place.environment}: {since if place.reached else 'not yet'}"
    for proposal in places.proposals:
        state = "merged by it" if proposal.merged else proposal.state
        yield "proposal", f"{proposal.number}, {proposal.title}: {state}"
    for run in places.runs:
        yield "run", f"{run.number} of {run.experiment}" + ("" if run.made else ", which read it")
    for check in places.checks:
        said = f": {check.comment}" if check.comment else ""
        yield "check", f"{'✓' if check.passed else '✗'} {check.name}{said}"
    for one in places.git:
        way = f", {'fetched from' if one.fetched else 'sent to'} {one.link}" if one.link else ""
        yield "Git", f"{one.git}{way}"


def _near(near: NearCommit) -> str:
    return f"{near.commit[:8]}  {near.summary}" + (", merged" if near.merged else "")


def _show_artifacts(commit: CommitListed) -> None:
    terminal.say(terminal.bold(f"{terminal.count(commit.artifact_count, 'artifact')}:"))
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(12, path=True), terminal.Column(40), terminal.Column(50, text=True))
    )
    for one in commit.artifacts:
        version = "gone" if one["removed"] else f"v{one['version']}"
        if one["effect"] or one["headline"] or one["removed"]:
            effect, headline = terminal.effect(one["effect"]), one["headline"]
        else:
            effect, headline = "", "not compared yet; ask again"
        listing.row(effect, (one["path"], terminal.bold), version, headline)
    listing.show()
    terminal.say_left(range(commit.artifact_count), len(commit.artifacts))

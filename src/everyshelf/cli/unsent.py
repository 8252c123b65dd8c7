"""Unsent commits of a desk, as a list for people and as JSON."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from everyshelf.cli import terminal

if TYPE_CHECKING:
    from everyshelf.desk.desk import Desk
    from everyshelf.desk.unsent import Unsent

_MANY = 200


def print_unsent(desk: Desk, as_json: bool) -> None:
    """Print each with what it changes."""
    from everyshelf.desk.unsent import unsent_commits

    known = unsent_commits(desk.root)
    if as_json:
        terminal.print_json({"unsent": [_unsent_json(one) for one in known]})
        return
    if not known:
        terminal.say(terminal.bold("No unsent commits") + " on this desk.")
        return
    terminal.say(terminal.bold(terminal.count(len(known), "unsent commit")) + f" for {desk.home.branch}, oldest first.")
    for one in known:
        size = terminal.count(len(one.commit.changes), "artifact")
        summary = terminal.bold(terminal.fit(one.commit.summary, 6 + len(size) + 2))
        terminal.say(terminal.line((2, terminal.bold(str(one.number))), (6, summary), (60, size)))
        terminal.say(terminal.line((6, terminal.dim(f"made {terminal.when(one.commit.made)}"))))
        if one.commit.merge:
            terminal.say(terminal.line((6, f"to be settled first: everyshelf settle --merge {one.commit.merge}")))
        listing = terminal.artifact_listing()
        for path, content, _, moved_from in one.commit.changes[: terminal.most(_MANY)]:
            old = one.commit.before.get(path)
            state = "gone" if content is None else "moved" if moved_from else "edited" if old else "new"
            came = f"from {moved_from}" if moved_from else ""
            terminal.artifact_row(listing, state, old.kind if old else "", path, came)
        listing.show()
        terminal.say_left(one.commit.changes, _MANY)
    terminal.next_step("everyshelf commit --send")


def _unsent_json(one: Unsent) -> dict[str, Any]:
    changes = [
        {"path": path, "content": content, "size": size, "moved_from": moved_from or None}
        for path, content, size, moved_from in one.commit.changes
    ]
    return {
        "number": one.number,
        "summary": one.commit.summary,
        "description": one.commit.description,
        "made": one.commit.made.isoformat(),
        "merge": one.commit.merge or None,
        "artifacts": changes,
    }

"""How long a shelf keeps what people saved and did not commit."""

from __future__ import annotations

from everyshelf.core.answers.base import Answer


class DraftKeeping(Answer):
    """Days that a shelf keeps saved work; null: as long as the shelf.

    ``save_points``: those that no longer count, because the artifact was saved again, committed or discarded.
    ``drafts``: pending changes, from when their draft was last saved; then they are discarded, and are save points.
    ``due_points`` and ``due_changes``: how many save points and pending changes go at the next hour.
    """

    save_points: int | None
    drafts: int | None
    due_points: int
    due_changes: int

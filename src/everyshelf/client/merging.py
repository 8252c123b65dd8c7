"""Merging branches, settling conflicts, and drafts."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from urllib.parse import quote

import msgspec

from everyshelf.client.models import Commit, Draft, Merge, SavePoint, Saving, WaitingMerge
from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.drafts import DraftKeeping
from everyshelf.core.answers.drawings import Drawing


class _SoFar(msgspec.Struct):
    content: str | None


class MergingPart(ShelfPart):
    """Bringing work together."""

    def merge(
        self,
        source: str,
        target: str,
        *,
        prefer: str | None = None,
        delete_source: bool = False,
        summary: str = "",
        reason: str = "",
        author: str | None = None,
        time: datetime | None = None,
    ) -> Merge:
        """Merge a branch into another; ``reason``: why, where an open proposal is passed by."""
        body = {
            "source": source,
            "target": target,
            "prefer": prefer,
            "delete_source": delete_source,
            "summary": summary,
            "reason": reason,
            "author": author,
            "time": time,
        }
        return self._transport.send("POST", f"{self._base}/merge", body, Merge)

    def merges(self) -> list[WaitingMerge]:
        """Merges that wait to be settled, newest first."""
        return self._transport.get(f"{self._base}/merges", list[WaitingMerge])

    def waiting_merge(self, uid: str) -> WaitingMerge:
        """One merge, with every artifact both sides changed and its conflicts."""
        return self._transport.get(f"{self._base}/merges/{quote(uid)}", WaitingMerge)

    def merge_drawing(self, uid: str, path: str) -> Drawing:
        """Return a drawing of what merging makes of a pipeline or workflow; without nodes while a conflict is open."""
        return self._transport.get(f"{self._base}/merges/{quote(uid)}/drawing", Drawing, path=path)

    def merged_so_far(self, uid: str, path: str) -> str | None:
        """The id of the content of an artifact with all that is merged and settled so far, where something is still to
        be settled as the target has it; None if the artifact is gone there."""
        return self._transport.get(f"{self._base}/merges/{quote(uid)}/so-far", _SoFar, path=path).content

    def settle(self, uid: str, decisions: list[dict[str, Any]]) -> WaitingMerge:
        """Settle conflicts: each decision has ``path``, ``conflict``, ``take`` (this, other, both, edited or None), and
        ``value`` for an edited one, or ``content`` (an uploaded content's id) for the artifact as a whole."""
        body = {"decisions": decisions}
        return self._transport.send("POST", f"{self._base}/merges/{quote(uid)}/decisions", body, WaitingMerge)

    def finish_merge(self, uid: str, summary: str = "") -> Commit:
        """Make the commit of a merge that is settled."""
        return self._transport.send("POST", f"{self._base}/merges/{quote(uid)}/finish", {"summary": summary}, Commit)

    def abandon_merge(self, uid: str) -> None:
        """Give a merge up; both sides stay as they are."""
        self._transport.send("DELETE", f"{self._base}/merges/{quote(uid)}")

    # --- drafts -------------------------------------------------------------

    def drafts(self) -> list[Draft]:
        """One's own drafts with something pending."""
        return self._transport.get(f"{self._base}/drafts", list[Draft])

    def save(self, branch: str, entries: list[Saving], base: str | None = None) -> Draft:
        """Keep edits in the draft of a branch, all or none; raises ``ProblemError`` (draft.moved) where one was made on
        another save point than the newest."""
        body = {"branch": branch, "base": base, "entries": entries}
        return self._transport.send("POST", f"{self._base}/drafts", body, Draft)

    def unpack_parcel(self, content: str, branch: str = "main") -> dict[str, Any]:
        """Save what is in a parcel into the draft of a branch; ``content`` is the id under which it was uploaded."""
        body = {"content": content, "branch": branch}
        return self._transport.send("POST", f"{self._base}/drafts/unpack", body, dict[str, Any])

    def save_points(self, branch: str, path: str = "", before: int | None = None) -> list[SavePoint]:
        """The trail of a draft, newest first, also of what was committed or discarded; up to 500."""
        query = {"branch": branch, "path": path or None, "before": before}
        return self._transport.get(f"{self._base}/drafts/points", list[SavePoint], **query)

    def discard_draft(self, branch: str, paths: list[str] | None = None) -> Draft:
        """Give pending entries up; their save points stay."""
        return self._transport.send("POST", f"{self._base}/drafts/discard", {"branch": branch, "paths": paths}, Draft)

    def restore_point(self, branch: str, point: int) -> Draft:
        """Save what a save point holds anew."""
        return self._transport.send("POST", f"{self._base}/drafts/restore", {"branch": branch, "point": point}, Draft)

    def draft_keeping(self) -> DraftKeeping:
        """How long save points and drafts of this shelf are kept, and how many go at the next hour."""
        return self._transport.get(f"{self._base}/drafts/keeping", DraftKeeping)

    def change_draft_keeping(self, **days: int | None) -> DraftKeeping:
        """Set how many days ``save_points`` and ``drafts`` are kept; None: as long as the shelf. What is not given
        stays."""
        return self._transport.send("PATCH", f"{self._base}/drafts/keeping", days, DraftKeeping)

    def commit_draft(
        self,
        branch: str,
        summary: str,
        paths: list[str] | None = None,
        *,
        description: str = "",
        merge: bool = False,
        prefer: str | None = None,
    ) -> Commit:
        """Commit pending entries of a draft, all or a selection; the rest stays."""
        said = {"summary": summary, "description": description}
        body = {"branch": branch, "paths": paths, "merge": merge, "prefer": prefer, **said}
        return self._transport.send("POST", f"{self._base}/drafts/commit", body, Commit)

"""Proposals, what is said about them, and checks."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from everyshelf.client.part import ShelfPart


class ProposalsPart(ShelfPart):
    """Proposals to merge a branch, and checks. Answers have the form that docs/openapi.yaml calls ProposalOut."""

    def proposals(self, state: str = "open") -> list[dict[str, Any]]:
        """List proposals that are open, merged, closed, or all; newest first."""
        return list(self._pages("proposals", state=state))

    def proposal(self, number: int) -> dict[str, Any]:
        """Return a proposal with its conflicts, verdicts, remarks, checks, and what is not met yet."""
        return self._transport.get(f"{self._base}/proposals/{number}", dict[str, Any])

    def open_proposal(
        self,
        title: str,
        source: str,
        target: str = "",
        *,
        description: str = "",
        tasks: list[str] | None = None,
        reviewers: list[str] | None = None,
        delete_source: bool = False,
    ) -> dict[str, Any]:
        """Propose merging ``source`` into ``target`` (default: the main branch)."""
        body = {
            "title": title,
            "source": source,
            "target": target,
            "description": description,
            "tasks": tasks or [],
            "reviewers": reviewers or [],
            "delete_source": delete_source,
        }
        return self._transport.send("POST", f"{self._base}/proposals", body, dict[str, Any])

    def change_proposal(self, number: int, **changes: Any) -> dict[str, Any]:
        """Change ``title``, ``description``, ``reviewers``, ``delete_source`` or ``state`` (closed, with
        ``reason``, or open)."""
        return self._transport.send("PATCH", f"{self._base}/proposals/{number}", changes, dict[str, Any])

    def remark(
        self,
        number: int,
        text: str,
        *,
        path: str = "",
        part: str = "",
        label: str = "",
        answer_to: str = "",
        condition: bool = False,
    ) -> dict[str, Any]:
        """Add a remark on the proposal, an artifact or a part of one, or answer a remark.

        A ``condition`` keeps the proposal from being merged until it is settled.
        """
        body = {
            "text": text,
            "path": path,
            "part": part,
            "label": label,
            "answer_to": answer_to,
            "condition": condition,
        }
        return self._transport.send("POST", f"{self._base}/proposals/{number}/remarks", body, dict[str, Any])

    def settle_remark(self, number: int, remark: str, settled: bool = True) -> dict[str, Any]:
        """Mark a remark as done or a condition as met, or undo that."""
        address = f"{self._base}/proposals/{number}/remarks/{quote(remark, safe='')}"
        return self._transport.send("PATCH", address, {"settled": settled}, dict[str, Any])

    def give_verdict(self, number: int, verdict: str, text: str = "", commit: str = "") -> dict[str, Any]:
        """Give the verdict ``agree`` or ``against``; ``commit``: the state it is about."""
        body = {"verdict": verdict, "text": text, "commit": commit}
        return self._transport.send("POST", f"{self._base}/proposals/{number}/verdict", body, dict[str, Any])

    def merge_proposal(
        self, number: int, *, reason: str = "", summary: str = "", delete_source: bool | None = None
    ) -> dict[str, Any]:
        """Merge a proposal; ``reason``: why, although a requirement is not met."""
        body = {"reason": reason, "summary": summary, "delete_source": delete_source}
        return self._transport.send("POST", f"{self._base}/proposals/{number}/merge", body, dict[str, Any])

    def checks(self, ref: str = "") -> list[dict[str, Any]]:
        """The newest check of each name for the commit a ref stands for."""
        return self._transport.get(f"{self._base}/checks", list[dict[str, Any]], ref=ref or None)

    def record_check(
        self,
        name: str,
        passed: bool | None = None,
        ref: str = "",
        *,
        junit: str = "",
        comment: str = "",
        link: str = "",
    ) -> dict[str, Any]:
        """Record what was found about the commit a ref stands for: how it ended, or a JUnit file that says so."""
        body = {"name": name, "passed": passed, "junit": junit, "ref": ref, "comment": comment, "link": link}
        return self._transport.send("POST", f"{self._base}/checks", body, dict[str, Any])

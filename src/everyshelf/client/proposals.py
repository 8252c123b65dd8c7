"""Proposals, what is said about them, and checks."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from everyshelf.client.part import ShelfPart


class ProposalsPart(ShelfPart):
    """Asking that a branch be merged. Answers have the form that docs/openapi.yaml calls ProposalOut."""

    def proposals(self, state: str = "open") -> list[dict[str, Any]]:
        """Proposals that are open, merged, closed, or all; newest first."""
        return self._transport.get(f"{self._base}/proposals", list[dict[str, Any]], state=state)

    def proposal(self, number: int) -> dict[str, Any]:
        """One proposal as it stands now: conflicts, verdicts, remarks, checks, and what holds it."""
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
        drop: bool = False,
    ) -> dict[str, Any]:
        """Ask that ``source`` be merged into ``target`` (the main branch if left out)."""
        body = {
            "title": title,
            "source": source,
            "target": target,
            "description": description,
            "tasks": tasks or [],
            "reviewers": reviewers or [],
            "drop": drop,
        }
        return self._transport.send("POST", f"{self._base}/proposals", body, dict[str, Any])

    def change_proposal(self, number: int, **changes: Any) -> dict[str, Any]:
        """Change ``title``, ``description``, ``reviewers``, ``drop`` or ``state`` (closed, with ``why``, or open)."""
        return self._transport.send("PATCH", f"{self._base}/proposals/{number}", changes, dict[str, Any])

    def remark(
        self, number: int, text: str, *, path: str = "", part: str = "", label: str = "", answer_to: str = ""
    ) -> dict[str, Any]:
        """Say something about the proposal, an artifact, or a part of one; or answer a remark."""
        body = {"text": text, "path": path, "part": part, "label": label, "answer_to": answer_to}
        return self._transport.send("POST", f"{self._base}/proposals/{number}/remarks", body, dict[str, Any])

    def settle_remark(self, number: int, remark: str, settled: bool = True) -> dict[str, Any]:
        """Say that a remark is dealt with, or is not after all."""
        address = f"{self._base}/proposals/{number}/remarks/{quote(remark, safe='')}"
        return self._transport.send("PATCH", address, {"settled": settled}, dict[str, Any])

    def give_verdict(self, number: int, verdict: str, text: str = "", commit: str = "") -> dict[str, Any]:
        """Say ``agree``, ``agree if``, ``not yet`` or ``against``; ``commit``: the state that was looked at."""
        body = {"verdict": verdict, "text": text, "commit": commit}
        return self._transport.send("POST", f"{self._base}/proposals/{number}/verdict", body, dict[str, Any])

    def merge_proposal(
        self, number: int, *, anyway: str = "", summary: str = "", drop: bool | None = None
    ) -> dict[str, Any]:
        """Merge it in one act; ``anyway`` says why, where something holds it."""
        body = {"anyway": anyway, "summary": summary, "drop": drop}
        return self._transport.send("POST", f"{self._base}/proposals/{number}/merge", body, dict[str, Any])

    def checks(self, ref: str = "") -> list[dict[str, Any]]:
        """The newest check of each name for the commit a ref stands for."""
        return self._transport.get(f"{self._base}/checks", list[dict[str, Any]], ref=ref or None)

    def record_check(
        self, name: str, passed: bool | None = None, ref: str = "", *, junit: str = "", said: str = "", link: str = ""
    ) -> dict[str, Any]:
        """Record what was found about the commit a ref stands for: how it ended, or a JUnit file that says so."""
        body = {"name": name, "passed": passed, "junit": junit, "ref": ref, "said": said, "link": link}
        return self._transport.send("POST", f"{self._base}/checks", body, dict[str, Any])

"""Experiments and their runs."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import datetime
from typing import Any
from urllib.parse import quote

from everyshelf.client.part import ShelfPart


class ExperimentsPart(ShelfPart):
    """Trying something on a branch. Answers have the form that docs/openapi.yaml calls ExperimentOut."""

    def experiments(
        self, words: str = "", state: str = "all", branch: str = "", limit: int | None = None
    ) -> list[dict[str, Any]]:
        """Experiments, open ones first, each with what its runs say so far: all of them, or ``limit``.

        ``words``: only those with these words in their question, key or branch. ``state``: open, adopted, abandoned or
        all. ``branch``: only those tried on it.
        """
        wanted = {"words": words or None, "state": state, "branch": branch or None}
        return list(self._pages("experiments", limit, **wanted))

    def experiment(self, key: str, base: int | None = None) -> dict[str, Any]:
        """One experiment with its runs side by side, against the run ``base``."""
        return self._transport.get(self._experiment(key), dict[str, Any], base=base)

    def begin_experiment(
        self, question: str, *, key: str = "", branch: str = "", start: str = "", target: str = "", primary: str = ""
    ) -> dict[str, Any]:
        """Begin one; key and branch are suggested from the question, and the branch is made if it is not there yet."""
        body = {
            "question": question,
            "key": key,
            "branch": branch,
            "start": start,
            "target": target,
            "primary": primary,
        }
        return self._transport.send("POST", f"{self._base}/experiments", body, dict[str, Any])

    def change_experiment(self, key: str, **changes: str) -> dict[str, Any]:
        """Change the ``question``, or ``primary``: the metric that answers it."""
        return self._transport.send("PATCH", self._experiment(key), changes, dict[str, Any])

    def record_run(
        self,
        key: str,
        branch: str,
        commit: str,
        *,
        base: str = "",
        reads: Sequence[str] = (),
        parameters: Mapping[str, Any] | None = None,
        metrics: Mapping[str, float] | None = None,
        series: Mapping[str, Sequence[tuple[float, float]]] | None = None,
        command: str = "",
        state: str = "done",
        exit_code: int | None = None,
        note: str = "",
        began: datetime | None = None,
        took_seconds: float | None = None,
    ) -> dict[str, Any]:
        """Record a run: ``commit`` holds what it wrote, ``reads`` are paths as they were at ``base``.

        Metrics also come from the files that ``shelf.toml`` names under ``[experiments]``.
        """
        body = {
            "branch": branch,
            "commit": commit,
            "base": base,
            "reads": list(reads),
            "parameters": dict(parameters or {}),
            "metrics": dict(metrics or {}),
            "series": {name: [list(p) for p in points] for name, points in (series or {}).items()},
            "command": command,
            "state": state,
            "exit_code": exit_code,
            "note": note,
            "began": began,
            "took_seconds": took_seconds,
        }
        return self._transport.send("POST", f"{self._experiment(key)}/runs", body, dict[str, Any])

    def courses(self, key: str, metric: str, runs: Sequence[int] = ()) -> list[dict[str, Any]]:
        """A metric along the course of some runs (all if none are named): ``number``, ``branch`` and ``points``."""
        wanted = ",".join(map(str, runs)) or None
        return self._transport.get(f"{self._experiment(key)}/courses", list[dict[str, Any]], metric=metric, runs=wanted)

    def adopt_experiment(
        self, key: str, *, branch: str = "", title: str = "", reviewers: Sequence[str] = ()
    ) -> dict[str, Any]:
        """Open a proposal of its branch, and close it."""
        body = {"branch": branch, "title": title, "reviewers": list(reviewers)}
        return self._transport.send("POST", f"{self._experiment(key)}/adopt", body, dict[str, Any])

    def abandon_experiment(self, key: str, reason: str) -> dict[str, Any]:
        """Close it and say why; everything is kept."""
        return self._transport.send("POST", f"{self._experiment(key)}/abandon", {"reason": reason}, dict[str, Any])

    def _experiment(self, key: str) -> str:
        return f"{self._base}/experiments/{quote(key, safe='')}"

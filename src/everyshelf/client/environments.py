"""Environments: what runs where, rehearsing, promoting, and bringing back what was changed there."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any
from urllib.parse import quote

from everyshelf.client.models import Binding, Deployment, Environment, Job
from everyshelf.client.part import ShelfPart
from everyshelf.core.answers.environments import FreePlace
from everyshelf.decoding import converted


class EnvironmentsPart(ShelfPart):
    """Places artifacts are promoted to. Answers without a class of their own have the forms of docs/openapi.yaml."""

    def environments(self) -> list[Environment]:
        """In the order of their routes."""
        return self._transport.get(f"{self._base}/environments", list[Environment])

    def environment(self, name: str) -> Environment:
        """One environment and what runs there."""
        return self._transport.get(self._environment(name), Environment)

    def free_places(self, destination: str = "folder", name: str = "") -> list[FreePlace]:
        """Where a new environment called ``name`` can live: folders, or files of a database, that belong to none."""
        address = f"{self._base}/free-places"
        return self._transport.get(address, list[FreePlace], destination=destination, name=name)

    def make_environment(self, name: str, **said: Any) -> Environment:
        """Make an environment.

        Settings: ``destination`` (folder, database, platform, git) with its ``address`` and ``token``; ``subfolder``,
        the folder of the shelf that is deployed; for a database ``records``, patterns of the tables whose records are
        versioned too; ``route`` and ``position``; ``fed_from``, ``earlier_first`` and ``gates`` (guarded, reviews,
        checks, quiet, drift); ``left_out`` (patterns, kinds); ``watch_minutes``; ``note``.
        """
        return self._transport.send("POST", f"{self._base}/environments", {"name": name, **said}, Environment)

    def make_trial(self, name: str, tag: str, *, days: int = 7, **said: Any) -> Environment:
        """Make a trial environment and deploy ``tag`` to it; it is removed automatically after ``days``.

        Settings: ``destination``, ``address``, ``token``, ``subfolder``, ``records``, ``note``.
        """
        body = {"name": name, "tag": tag, "days": days, **said}
        return self._transport.send("POST", f"{self._base}/environments/trials", body, Environment)

    def change_environment(self, name: str, **said: Any) -> Environment:
        """Change what is given, as in ``make_environment``; of the gates those that are named."""
        return self._transport.send("PATCH", self._environment(name), said, Environment)

    def remove_environment(self, name: str) -> None:
        """Forget one that was never used, or end a trial environment."""
        self._transport.send("DELETE", self._environment(name))

    # --- bindings and gates -------------------------------------------------

    def bindings(self, environment: str) -> list[Binding]:
        """What ``shelf.toml`` declares and what has a value there; of secret ones only that they have one."""
        return self._transport.get(f"{self._environment(environment)}/bindings", list[Binding])

    def bind(self, environment: str, name: str, value: str, *, secret: bool | None = None) -> list[Binding]:
        """Give a binding its value there."""
        body = {"name": name, "value": value, "secret": secret}
        return self._transport.send("PUT", f"{self._environment(environment)}/bindings", body, list[Binding])

    def unbind(self, environment: str, name: str) -> None:
        """Take a value back."""
        self._transport.send("DELETE", f"{self._environment(environment)}/bindings?name={quote(name, safe='')}")

    def review(self, tag: str, environment: str, *, agrees: bool, comment: str = "") -> dict[str, Any]:
        """Say whether a tag may go there."""
        body = {"tag": tag, "agrees": agrees, "comment": comment}
        return self._transport.send("POST", f"{self._environment(environment)}/reviews", body, dict[str, Any])

    # --- promoting ------------------------------------------------------------

    def deployments(self, environment: str) -> list[Deployment]:
        """What was put there, newest first."""
        rows = self._pages(f"environments/{quote(environment, safe='')}/deployments")
        return converted(list(rows), list[Deployment])

    def rehearse(self, tag: str, environment: str) -> dict[str, Any]:
        """What a promotion would do; nothing is touched."""
        return self._transport.send("POST", f"{self._environment(environment)}/rehearse", {"tag": tag}, dict[str, Any])

    def rehearsal_report(self, tag: str, environment: str, form: str = "html") -> str:
        """A rehearsal as one HTML page, Markdown ("md") or JSON."""
        return self._transport.text(f"{self._environment(environment)}/report", tag=tag, form=form)

    def deployment_report(self, environment: str, number: int, form: str = "html") -> str:
        """What a deployment changed, under which conditions, and who made that, as HTML, Markdown ("md") or JSON."""
        return self._transport.text(f"{self._environment(environment)}/deployments/{number}/report", form=form)

    def promote(
        self,
        tag: str,
        environment: str,
        *,
        reason: str = "",
        overwrite_drift: bool = False,
        lose: Sequence[str] = (),
        force: bool = False,
        at: datetime | None = None,
        who: str | None = None,
    ) -> Job:
        """Start putting a tag in place; see ``wait``. ``lose``: names of what may be gone for good
        there. ``force`` overrules gates; that takes the right and a reason."""
        agreed = {"overwrite_drift": overwrite_drift, "lose": list(lose), "force": force}
        body = {"tag": tag, "reason": reason, **agreed, "at": at, "who": who}
        return self._transport.send("POST", f"{self._environment(environment)}/promote", body, Job)

    def try_draft(
        self, branch: str, environment: str, *, overwrite_drift: bool = False, lose: Sequence[str] = ()
    ) -> Job:
        """Start putting one's draft of a branch into a trial environment; see ``wait``."""
        body = {"branch": branch, "overwrite_drift": overwrite_drift, "lose": list(lose)}
        return self._transport.send("POST", f"{self._environment(environment)}/try-draft", body, Job)

    def roll_back(
        self,
        environment: str,
        *,
        to: int | None = None,
        reason: str = "",
        overwrite_drift: bool = False,
        lose: Sequence[str] = (),
        at: datetime | None = None,
        who: str | None = None,
    ) -> Job:
        """Start putting an earlier deployment in place again; see ``wait``."""
        agreed = {"overwrite_drift": overwrite_drift, "lose": list(lose)}
        body = {"to": to, "reason": reason, **agreed, "at": at, "who": who}
        return self._transport.send("POST", f"{self._environment(environment)}/roll-back", body, Job)

    # --- what is really there ---------------------------------------------------

    def drift(self, environment: str, branch: str = "") -> dict[str, Any]:
        """Return for each artifact whether it differs in the environment, on the shelf (its branch) or in both."""
        address = f"{self._environment(environment)}/drift"
        return self._transport.get(address, dict[str, Any], branch=branch or None)

    def compare_environments(self, one: str, other: str) -> dict[str, Any]:
        """What differs between what is really in two environments, by meaning."""
        return self._transport.get(f"{self._environment(one)}/beside/{quote(other, safe='')}", dict[str, Any])

    def look_for_drift(self, environment: str) -> list[dict[str, Any]]:
        """Look now whether anything was changed there; what is found is kept with the environment."""
        return self._transport.send("POST", f"{self._environment(environment)}/drift", None, list[dict[str, Any]])

    def capture(
        self, environment: str, *, branch: str = "", paths: list[str] | None = None, prefer: str | None = None
    ) -> dict[str, Any]:
        """Capture changes made in the environment in your draft of a branch; ``prefer`` ("environment" or "shelf")
        settles conflicts."""
        body = {"branch": branch, "paths": paths, "prefer": prefer}
        return self._transport.send("POST", f"{self._environment(environment)}/capture", body, dict[str, Any])

    def _environment(self, name: str) -> str:
        return f"{self._base}/environments/{quote(name, safe='')}"

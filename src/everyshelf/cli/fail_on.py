"""``--fail-on``: a comparison as a condition in a build."""

from __future__ import annotations

from typing import Any

import click

from everyshelf.cli.errors import FailOnMet

fail_on_option = click.option(
    "--fail-on",
    type=click.Choice(["breaks", "alters", "any"]),
    help="Exit with 6 if there is a finding with this effect, or something could not be compared.",
)


def check_fail_on(found: dict[str, Any], fail_on: str | None) -> None:
    """Raise ``FailOnMet`` if a finding has that effect or a stronger one, or if something was not judged, which may
    have it."""
    if fail_on is None:
        return
    effects = found["effects"]
    met = {"breaks": effects["breaks"], "alters": effects["breaks"] + effects["alters"], "any": sum(effects.values())}
    if met[fail_on]:
        raise FailOnMet(f"--fail-on {fail_on} was met")
    rows = found.get("artifacts", [found])
    unread = [row.get("path", "") for row in rows if not row.get("judged", True)]
    if unread:
        named = f": {', '.join(path for path in unread[:3] if path)}" if any(unread) else ""
        raise FailOnMet(f"--fail-on {fail_on} cannot be ruled out: {len(unread)} could not be compared{named}")

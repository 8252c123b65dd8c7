"""``--fail-on``: a comparison as a condition in a build."""

from __future__ import annotations

import click

from everyshelf.cli.errors import FailOnMet
from everyshelf.core.answers.comparisons import Compared
from everyshelf.core.answers.states import StateComparison

fail_on_option = click.option(
    "--fail-on",
    type=click.Choice(["breaks", "alters", "any"]),
    help="Exit with 6 if there is a finding with this effect, or something could not be compared.",
)


def check_fail_on(found: Compared | StateComparison, fail_on: str | None) -> None:
    """Raise ``FailOnMet`` if a finding has that effect or a stronger one, or if something was not judged, which may
    have it."""
    if fail_on is None:
        return
    effects = found.effects
    met = {"breaks": effects["breaks"], "alters": effects["breaks"] + effects["alters"], "any": sum(effects.values())}
    if met[fail_on]:
        raise FailOnMet(f"--fail-on {fail_on} was met")
    if isinstance(found, StateComparison):
        unread = [artifact.path for artifact in found.artifacts if not artifact.judged]
        count, named = len(unread), f": {', '.join(unread[:3])}"
    else:
        count, named = int(not found.judged), ""
    if count:
        raise FailOnMet(f"--fail-on {fail_on} cannot be ruled out: {count} could not be compared{named}")

"""``--anyway`` with ``--reason``: merging although something asks for a reason first."""

from __future__ import annotations

import click


def reason_for(anyway: bool, reason: str) -> str:
    """The reason that ``--anyway`` asks for; a usage error if one is given without the other."""
    if anyway != bool(reason.strip()):
        raise click.UsageError("--anyway and --reason TEXT go together")
    return reason

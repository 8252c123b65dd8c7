"""The part of docs/kinds-inside.md that mirrors the tables of the kinds: ``python -m tests.support.kind_page`` rewrites it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from everyshelf.core.kinds.cosmetic import EVERYWHERE, Cosmetic
from everyshelf.core.kinds.registry import kinds
from everyshelf.core.kinds.table import KindTable

PAGE = Path(__file__).parents[2] / "docs" / "kinds-inside.md"
START, END = "<!-- tables -->\n", "<!-- end of tables -->\n"


def lines_of(table: KindTable) -> list[str]:
    """What a kind's table says, as list items; identities, roles, effects, and what is looked past."""
    by_type: dict[str, list[str]] = {}
    for name, part_type in table.types.items():
        by_type.setdefault(part_type, []).append(f"`{name}`")
    said = [f"- {part_type}: {', '.join(sorted(names))}" for part_type, names in sorted(by_type.items())]
    for words, found in (
        ("breaks", {" ".join(breaking) for breaking in table.breaks}),
        ("left out", _by_reason(table.derived)),
        ("cosmetic parts", set(map(_entry, table.cosmetic_types))),
        ("cosmetic fields", set(map(_entry, table.cosmetic_fields))),
        ("order means nothing for", {"everything" if t == "*" else t for t in table.unordered}),
        ("identity", {f"{part_type} by {', '.join(fields)}" for part_type, fields in table.identity.items()}),
    ):
        if found:
            said.append(f"- {words}: {'; '.join(sorted(found))}")
    if table.judge is not None and table.judge.__doc__:
        said.append(f"- {' '.join(table.judge.__doc__.split())}")
    return said or ["- nothing of its own beyond the matching above"]


def _by_reason(derived: Mapping[str, str]) -> set[str]:
    reasons: dict[str, list[str]] = {}
    for name, reason in derived.items():
        reasons.setdefault(reason, []).append(f"`{name}`")
    return {f"{', '.join(sorted(names))} ({reason})" for reason, names in reasons.items()}


def _entry(entry: Cosmetic) -> str:
    made = "; a program writes it, so that merging takes a side's and says so" if entry.made else ""
    return f"{', '.join(f'`{name}`' for name in sorted(entry.names))} ({entry.reason}{made})"


def section() -> str:
    """What means nothing anywhere, then all tables, one heading each."""
    everywhere = [f"- {what}: {reason}" for what, reason in EVERYWHERE.items()]
    return (
        "\n".join(["", "### Everywhere", "", "No finding, or a cosmetic one:", "", *everywhere, ""])
        + "\n".join(line for kind in kinds().values() for line in ("", f"### {kind.id}", "", *lines_of(kind.table)))
        + "\n\n"
    )


def parts_between(page: str, start: str, end: str) -> tuple[str, str, str]:
    """The page before, between and after two marks."""
    before, _, rest = page.partition(start)
    between, _, after = rest.partition(end)
    return before, between, after


if __name__ == "__main__":
    before, _, after = parts_between(PAGE.read_text(), START, END)
    PAGE.write_text(f"{before}{START}{section()}{END}{after}")

"""Two environments beside each other, by what is really there."""

from __future__ import annotations

import time
from contextlib import ExitStack
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.environments import ArtifactThere
from everyshelf.core.compare.options import CompareOptions
from everyshelf.core.compare.sentences import EFFECT_ORDER, count_noun, effect_of, headline
from everyshelf.core.history.names import distinct_names
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.promotion.destination import Destination, Manifest
from everyshelf.core.reading.messages import FileAt
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader
from everyshelf.service.environments.actions.bindings import Values
from everyshelf.service.environments.actions.manifests import LeftOut, Record, recorded
from everyshelf.service.environments.actions.places import destination_of
from everyshelf.service.environments.actions.settled import read_settled
from everyshelf.service.environments.models import Environment
from everyshelf.service.shelves.actions.recording import rules_at
from everyshelf.service.shelves.actions.refs import resolve

_BUDGET_SECONDS = 12.0
MOST_FINDINGS = 20


class _Side:
    """One of the two."""

    def __init__(self, environment: Environment) -> None:
        self.environment, self.values = environment, Values(environment)
        self.destination: Destination = destination_of(environment)
        found: Manifest = self.destination.present()
        left_out = LeftOut(environment, self.destination)
        self.present = {path: placed for path, placed in found.items() if not left_out.has(path)}
        self.record: Record = recorded(environment)

    def source(self, path: str) -> str | None:
        """The content of the shelf that lies there with its bindings put in, if nobody touched it."""
        row, there = self.record.get(path), self.present.get(path)
        return row.source if row is not None and row.source and there is not None and row.is_at(there) else None


def beside(one: Environment, other: Environment) -> dict[str, Any]:
    """What ``other`` has that ``one`` has not, and the reverse; by meaning, secrets as their names.

    The same artifact with the bindings of each put in counts as the same.
    """
    return read_settled(one, lambda: read_settled(other, lambda: _told(_Side(one), _Side(other))))


def _told(a: _Side, b: _Side) -> dict[str, Any]:
    one, other = a.environment, b.environment
    rows: list[ArtifactThere] = []
    end, complete, same = time.monotonic() + _BUDGET_SECONDS, True, 0
    rules = rules_at(resolve(one.shelf, one.fed_from or one.shelf.main_branch).root)
    for path in sorted(a.present.keys() | b.present.keys()):
        before, after = a.present.get(path), b.present.get(path)
        if before == after or (a.source(path) is not None and a.source(path) == b.source(path)):
            same += 1
            continue
        row = ArtifactThere(
            path=path,
            name="",
            state="added" if before is None else "removed" if after is None else "changed",
            kind="opaque",
            effect="alters",
            headline="",
            findings=[],
        )
        if before is not None and after is not None:
            if time.monotonic() < end:
                describe(row, _compared(a, b, path, rules))
            else:
                row.headline, complete = "not compared yet; ask again", False
        rows.append(row)
    names = distinct_names(row.path for row in rows)
    for row in rows:
        row.name = names[row.path]
    rows.sort(key=lambda row: (EFFECT_ORDER.get(row.effect, 4), row.path))
    return {
        "one": one.name,
        "other": other.name,
        "artifacts": rows,
        "same": same,
        "complete": complete,
        "sentence": _sentence(one.name, other.name, rows, same),
    }


def _compared(a: _Side, b: _Side, path: str, rules: Rules) -> ComparisonAnswer:
    with ExitStack() as stack:
        folder = Path(stack.enter_context(TemporaryDirectory(dir=get_config().scratch, prefix="beside-")))
        files = []
        for number, side in enumerate((a, b)):
            file = stack.enter_context(side.destination.as_file(path))
            shown = folder / str(number)
            shown.write_bytes(side.values.masked(file.read_bytes()))
            files.append(shown)
        with reader() as worker:
            return worker.compare(FileAt(path, str(files[0])), FileAt(path, str(files[1])), CompareOptions(rules))


def describe(row: ArtifactThere, found: ComparisonAnswer) -> None:
    """Write into ``row`` what a comparison found, its first findings among it."""
    row.kind, row.headline = found.kind, headline(found)
    row.effect = effect_of(found) or ("cosmetic" if found.judged else "")
    row.findings = found.findings[:MOST_FINDINGS]


def _sentence(one: str, other: str, rows: list[ArtifactThere], same: int) -> str:
    if not rows:
        return f"{one} and {other} hold the same: {count_noun(same, 'artifact')}."
    counts = {state: sum(row.state == state for row in rows) for state in ("changed", "removed", "added")}
    said = [
        f"{count_noun(counts['changed'], 'artifact')} differ{'s' if counts['changed'] == 1 else ''}"
        if counts["changed"]
        else "",
        f"{counts['removed']} only in {one}" if counts["removed"] else "",
        f"{counts['added']} only in {other}" if counts["added"] else "",
    ]
    return ", ".join(text for text in said if text) + f"; {same} the same."

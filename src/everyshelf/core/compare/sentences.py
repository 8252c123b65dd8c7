"""Results in one line: what changed, in the nouns of the kind, and the strongest effect."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from everyshelf.core.answers.comparisons import Compared, LineCounts
from everyshelf.core.answers.findings import FindingAnswer
from everyshelf.core.answers.states import ComparedArtifact
from everyshelf.core.answers.tables import TableAnswer
from everyshelf.core.outline.model import EFFECTS, Effect

_WORDS = {
    "added": "added",
    "removed": "removed",
    "changed": "changed",
    "moved": "moved",
    "renamed": "renamed",
    "reordered": "reordered",
}
_MAX_CLAUSES = 4
_LONGEST = 40  # characters of a name or a value in a headline
# Findings on a whole artifact carry its kind as their part's type; some kinds are plurals.
_SINGULAR = {"settings": "setting", "tests": "test", "rows": "row"}

# What comes first in a list; "": it could not be judged.
EFFECT_ORDER = {"breaks": 0, "": 1, "alters": 2, "cosmetic": 3}


def count_noun(count: int, noun: str) -> str:
    """ "1 step", "2 steps", "3 entries"; thousands are grouped by a thin blank."""
    noun = _SINGULAR.get(noun, noun)
    if count == 1:
        return f"1 {noun}"
    if noun.endswith("y") and noun[-2:-1] not in "aeiou":
        noun = noun[:-1] + "ie"
    elif noun.endswith(("s", "x", "ch", "sh")):
        noun += "e"
    return f"{group(count)} {noun}s"


def group(number: int) -> str:
    """Digits in groups of three, parted by a narrow no-break space (U+202F)."""
    return f"{number:,}".replace(",", "\u202f")


def effect_of(result: Compared) -> Effect | None:
    """The strongest effect among a comparison's findings; None if there is none, or if something was not judged and
    nothing is known to break."""
    strongest = next((e for e in EFFECTS if result.effects.get(e)), None)
    return strongest if strongest == "breaks" or result.judged else None


def rank_of(artifact: ComparedArtifact) -> int:
    """The place of a compared artifact among others: what breaks first, then what could not be judged."""
    effect = artifact.effect
    if not effect and artifact.judged:
        return len(EFFECT_ORDER)
    return EFFECT_ORDER.get(effect or "", len(EFFECT_ORDER))


def effects_phrase(effects: Mapping[str, int], *, judged: bool = True) -> str:
    """How many findings have which effect, in words: "7 findings change behaviour, none break users"."""
    breaks, alters = effects.get("breaks", 0), effects.get("alters", 0)
    if breaks:
        more = f", {group(alters)} change{'s' if alters == 1 else ''} behaviour" if alters else ""
        return f"{count_noun(breaks, 'finding')} may break users{more}"
    if alters:
        known = f"{count_noun(alters, 'finding')} change{'s' if alters == 1 else ''} behaviour"
        return f"{known}, none break users" if judged else known
    return "no change of behaviour" if judged else ""


def states_sentence(artifacts: Sequence[ComparedArtifact]) -> str:
    """Two states in one line, numbers first: "2 artifacts edited, 1 new; 7 findings change behaviour, none break
    users"."""
    if not artifacts:
        return "Nothing differs."
    effects: dict[str, int] = {effect: sum(a.effects.get(effect, 0) for a in artifacts) for effect in EFFECTS}
    states = Counter(a.state for a in artifacts)
    not_judged = sum(not a.judged for a in artifacts)
    counted = [(states[state], state) for state in ("edited", "new", "moved", "gone") if states[state]]
    (number, state), *more = counted
    first = count_noun(number, "new artifact") if state == "new" else f"{count_noun(number, 'artifact')} {state}"
    parts = [first, *(f"{group(n)} {state}" for n, state in more)]
    hidden = f"; {count_noun(effects['cosmetic'], 'cosmetic finding')} hidden" if effects["cosmetic"] else ""
    said = [effects_phrase(effects, judged=not not_judged)]
    if not_judged:
        said.append(f"{count_noun(not_judged, 'artifact')} could not be judged")
    return f"{', '.join(parts)}; {'; '.join(s for s in said if s)}{hidden}."


def headline(result: Compared) -> str:
    """What a comparison found, without its cosmetic findings unless there is nothing else."""
    if result.read_as == "bytes" and result.note:
        return result.note[max(0, result.note.find("not compared")) :]
    if result.lines is not None and result.read_as == "text":
        return _lines(result.lines) + ("" if result.judged else ", not judged")
    # What breaks users comes first: with several findings it is what people have to know.
    shown = sorted((f for f in result.findings if f.effect != "cosmetic"), key=lambda f: f.effect != "breaks")
    if len(shown) == 1 and result.table is None and result.tables is None:
        return _single(shown[0])
    if result.tables is not None:
        clauses = _tables_clauses(result.tables, shown)
    else:
        clauses = _table_clauses(result.table) if result.table is not None else _clauses(shown)
    if clauses:
        more = len(clauses) - _MAX_CLAUSES
        return ", ".join(clauses[:_MAX_CLAUSES]) + (f" and {more} more" if more > 0 else "")
    if result.findings:
        return f"{count_noun(len(result.findings), 'cosmetic change')} only"
    return result.note or "no difference"


def _single(finding: FindingAnswer) -> str:
    """One finding in its own words: "step Scan ticket: timeout 30 → 20"."""
    part, field, called = finding.type, finding.field, finding.label
    named = called not in (part, field) and len(called) <= _LONGEST and "\n" not in called
    if field is None:
        return f"{part} {called} {_word(finding)}" if named else f"1 {_SINGULAR.get(part, part)} {_word(finding)}"
    before, after = finding.before, finding.after
    sides = _short(before), _short(after)
    is_told = None not in sides and not (before is None and after is None) and _word(finding) != "rewired"
    if is_told and sides[1] and sides[1] in called:
        return f"{part}: {sides[0]} → {sides[1]}"  # its name is its text
    what = f"{field} {sides[0]} → {sides[1]}" if is_told else _unquoted(finding, field)
    return f"{part} {called}: {what}" if named else what if called in (part, field) else f"{part}: {what}"


def _unquoted(finding: FindingAnswer, field: str) -> str:
    """What is said of a field whose values are too long for a line."""
    detail = finding.detail
    return f"{field} changed, {detail}" if detail and len(detail) <= _LONGEST else f"{field} changed"


def _short(value: Any) -> str | None:
    """A value as it is written, or None if it is too long to be told in a line."""
    if isinstance(value, dict | list):
        return None
    text = "none" if value is None else str(value).lower() if isinstance(value, bool) else str(value)
    return text if len(text) <= _LONGEST and "\n" not in text and text.strip() else None


def _lines(lines: LineCounts) -> str:
    counts = {"added": lines.added, "removed": lines.removed}
    parts = [f"{count_noun(count, 'line')} {action}" for action, count in counts.items() if count]
    return ", ".join(parts) or "only encoding or line ends differ"


def _clauses(findings: list[FindingAnswer]) -> list[str]:
    # One part that differs in three fields is one part changed; the fields of the whole artifact count each.
    told = {(f.type, _word(f), f.part if f.field and f.part != "/" else n) for n, f in enumerate(findings)}
    order = dict.fromkeys((f.type, _word(f)) for f in findings)
    counts = Counter((noun, word) for noun, word, _ in told)
    return [f"{count_noun(counts[said], said[0])} {said[1]}" for said in order]


def _word(finding: FindingAnswer) -> str:
    if finding.field is not None:
        return "rewired" if finding.type == "connection" and finding.detail in _REWIRED else "changed"
    return _WORDS[finding.action]


_REWIRED = ("leads to", "comes from")


def _tables_clauses(tables: dict[str, TableAnswer], shown: list[FindingAnswer]) -> list[str]:
    """Rows of all tables together, then what became of the schema."""
    rows = {a: sum(getattr(t.rows, a) for t in tables.values()) for a in ("changed", "added", "removed")}
    clauses = [f"{count_noun(n, 'row')} {action}" for action, n in rows.items() if n]
    of_rows = ("rows", "column")
    schema = [f for f in shown if f.type not in of_rows or f.field or f.action != "changed"]
    return _clauses([f for f in schema if f.type != "rows" and f.field != "shift"]) + clauses


def _table_clauses(table: TableAnswer) -> list[str]:
    clauses = []
    columns = table.columns
    for action in ("added", "removed", "renamed", "retyped", "widened", "narrowed"):
        if names := getattr(columns, action):
            clauses.append(f"{count_noun(len(names), 'column')} {action}")
    for name, counts in table.cells.items():
        if counts.changed:
            clauses.append(f"{count_noun(counts.changed, 'cell')} in {name}")
    for action in ("added", "removed"):
        if count := getattr(table.rows, action):
            clauses.append(f"{count_noun(count, 'row')} {action}")
    return clauses

"""Values that differ per environment, put into an artifact when it is promoted there.

A binding is declared in ``shelf.toml``. It stands in a text as ``${NAME}``, or is what a field of a part says. In JSON,
YAML and XML it is put into the value in which it stands, spelled as that format asks, so that a quote or an angle
bracket in it breaks nothing; in other texts it is put in as it is. Nothing else in the file moves, and the result must
read as the kind it was.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

from everyshelf.core.editing.edits import FieldEdit
from everyshelf.core.editing.fields import set_fields
from everyshelf.core.editing.places import SOURCES, SourceText, value_of
from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.formats.text import decode, encoded_like
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.recognise import Recognition
from everyshelf.core.kinds.rules import BindingRule, Rules
from everyshelf.core.merge.spelling import Speller, line_list
from everyshelf.core.promotion.bound import Bound, check_bindable

_MARK = re.compile(r"\$\{([A-Z][A-Z0-9_]{0,59})\}")


def rules_for(path: str, rules: Rules) -> list[BindingRule]:
    """The bindings that may stand in the artifact at ``path``."""
    return [rule for rule in rules.bindings if rule.is_for(path)]


def marks_in(text: str) -> set[str]:
    """Every name that stands in a text as ``${NAME}``."""
    return set(_MARK.findall(text))


def needed(path: str, data: bytes, rules: Rules) -> list[str]:
    """The names of the bindings that the artifact at ``path`` needs, sorted."""
    wanted = rules_for(path, rules)
    marked = marks_in(decode(data).text) if any(not r.field for r in wanted) else set()
    return sorted({r.name for r in wanted if r.field or r.name in marked})


def bind(path: str, data: bytes, rules: Rules, values: Mapping[str, str]) -> Bound:
    """``data`` with the values it needs; a name without a value stays as it stands.

    Raises ``InvalidError`` (binding.place, binding.unreadable) where a value cannot be put in.
    """
    wanted = rules_for(path, rules)
    if not wanted:
        return Bound(data, (), ())
    check_bindable(path, len(data))
    names = needed(path, data, rules)
    used = tuple(n for n in names if n in values)
    fields = [r for r in wanted if r.field and r.name in values]
    marks = {r.name: values[r.name] for r in wanted if not r.field and r.name in used}
    try:
        result = set_fields(path, data, [FieldEdit(r.part, r.field, values[r.name]) for r in fields], rules)
    except InvalidError as error:
        raise InvalidError(
            f"the binding of {path} cannot be put in: {error.message}",
            code="binding.place",
            hint="Look at what shelf.toml, [bindings], says of its part and field.",
        ) from error
    if marks:
        result = _marked(path, result, rules, marks)
    return Bound(result, used, tuple(n for n in names if n not in values))


def _marked(path: str, data: bytes, rules: Rules, values: Mapping[str, str]) -> bytes:
    found = recognise_file(path, data, rules)
    result = _in_values(data, found, values) if found.format in SOURCES else None
    if result is None:
        text = decode(data)
        result = encoded_like(_put(text.text, values), text)
    if _reads(path, data, found, rules) and not _reads(path, result, recognise_file(path, result, rules), rules):
        # The reader's words are not told: they may show the value.
        raise InvalidError(
            f"with its bindings {path} can no longer be read as {found.kind}",
            code="binding.unreadable",
            hint=f"Look at the values of {', '.join(sorted(values))}: a quote or a line break may be in the way.",
        )
    return result


def _in_values(data: bytes, found: Recognition, values: Mapping[str, str]) -> bytes | None:
    """Put into the values in which the names stand; None if the text cannot be taken apart."""
    try:
        source = SourceText(data, found.format, found.tree)
    except UnreadableError:
        return None
    speller, said, end = Speller(found.format), [], 0
    for place in source.places():
        value = value_of(place.node)
        if place.start < end or not isinstance(value, str) or "${" not in value:
            continue  # a line of a text that is a list of lines is put in with its text
        new = _put(value, values)
        if new == value:
            continue
        if place.node.shape == "list":
            spelled = line_list(new.splitlines(keepends=True), place.node.groups, place.node.text.isascii())[0]
        else:
            spelled = speller.value(new, place.node, "")
        said.append((place, spelled))
        end = place.end
    return source.spliced(said)


def _put(text: str, values: Mapping[str, str]) -> str:
    return _MARK.sub(lambda found: values.get(found[1], found[0]), text)


def _reads(path: str, data: bytes, found: Recognition, rules: Rules) -> bool:
    try:
        return read_outline(path, data, found, rules).kind == found.kind
    except (UnreadableError, RecursionError):
        return False

"""How deeply a YAML text is nested, before it is composed.

libyaml's composer calls itself for each level, so a text of 30 KB can end the process. Its event parser does not
(it keeps its states on the heap), but costs as much as parsing. So a bound is worked out from the characters first, and
events are counted only for the rare text whose bound is high.
"""

from __future__ import annotations

import re

import yaml

from everyshelf.core.errors import UnreadableError

MOST_LEVELS = 400
_UNSUSPICIOUS = 200
# Indentation and compact nesting ("- - - x", "? ? x") at the beginning of a line, and after an opening bracket.
_INDENTED = re.compile(r"^(?:[ ]|[-?:][ \t]+)+", re.MULTILINE)
_BRACKETS = re.compile(r"[\[\]{}]")
_Loader = getattr(yaml, "CLoader", yaml.Loader)


def check_depth(text: str) -> None:
    """Raise ``UnreadableError`` with the line for a text nested over 400 levels."""
    if _bound(text) <= _UNSUSPICIOUS:
        return
    depth = 0
    loader = _Loader(text)
    try:
        while (event := loader.get_event()) is not None:
            if isinstance(event, yaml.CollectionStartEvent):
                depth += 1
                if depth > MOST_LEVELS:
                    mark = event.start_mark
                    where = f"line {mark.line + 1}: " if mark is not None else ""
                    raise UnreadableError(f"{where}nested over {MOST_LEVELS} levels deep")
            elif isinstance(event, yaml.CollectionEndEvent):
                depth -= 1
            elif isinstance(event, yaml.StreamEndEvent):
                return
    except yaml.YAMLError:
        return  # whoever parses it says what is wrong
    finally:
        loader.dispose()


def _bound(text: str) -> int:
    """No text is nested more deeply than this; brackets within quotes only make it higher."""
    flow = most = 0
    for bracket in _BRACKETS.finditer(text):
        flow += 1 if bracket[0] in "[{" else -1
        most = max(most, flow)
        flow = max(flow, 0)
    # A level of a block takes a column at least; a list may stand at its key's own column.
    columns = max((len(match[0]) for match in _INDENTED.finditer(text)), default=0)
    return most + 2 * columns

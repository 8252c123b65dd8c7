"""What one artifact names, which parts of its targets it uses, what flows through it, and its words.

Steps of pipelines are exact: they give inputs and take outputs by name. SQL and Python are followed; of everything
else the words tell: a file that names another and holds the name of one of its parts uses that part.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import NamedTuple

from msgspec.structs import replace

from everyshelf.core.answers.uses import FileReferences, Flow, Reference, UsedPart, UsePlace
from everyshelf.core.outline.model import Part
from everyshelf.core.uses.frames import Frames
from everyshelf.core.uses.names import names_in, offered_by
from everyshelf.core.uses.places import parts_of, said_of
from everyshelf.core.uses.sql import looks_like_sql, sql_references

_MOST_WORDS = 20_000
_MOST_STATEMENTS = 2000  # texts of SQL that are followed; of more the words tell
_MOST_PLACES = 10
_LONGEST = 120
_WORD = re.compile(r"[^\W\d]\w{1,60}")
_CODE_FIELDS = frozenset({"code", "source"})
_PYTHON = frozenset({"", "python", "python3", "py"})


def references_in(root: Part, kind: str) -> FileReferences:
    """Everything an artifact names and offers. Words are kept where it names anything at all."""
    parts = list(parts_of(root, ""))
    code = _followed(root, parts, kind)
    names = _with_wiring(parts, _without(names_in(root), code.names)) + code.names
    tables = [f"table:{one.text.rpartition('.')[2].casefold()}" for one in code.names if _makes_table(one)]
    words, places = _words(parts, code.followed) if names else ({}, [])
    return FileReferences(
        names=names,
        offers=list(dict.fromkeys([*offered_by(root), *tables])),
        flows=code.flows,
        words=words,
        places=places,
        read=code.read,
    )


def _makes_table(one: Reference) -> bool:
    return one.writes and one.what == "table"


def _without(names: list[Reference], code: list[Reference]) -> list[Reference]:
    """The names that are known better from the code: not a second time as guesses."""
    known = {(one.text.removeprefix("./"), one.place) for one in code}
    return [n for n in names if n.exact or (n.text.removeprefix("./"), n.place) not in known]


class _Code(NamedTuple):
    """References and flows of code, the paths of the parts whose code was followed, and whether all SQL was read."""

    names: list[Reference]
    flows: list[Flow]
    followed: set[str]
    read: bool


def _followed(root: Part, parts: list[tuple[str, Part]], kind: str) -> _Code:
    frames, references, flows = Frames(), list[Reference](), list[Flow]()
    followed: set[str] = set()
    left, statements, unread = False, 0, 0
    is_sql_script = kind == "script" and root.label == "statements"
    for path, part in parts:
        for field, value in part.fields.items():
            if not isinstance(value, str) or len(value) < 8:
                continue
            label = said_of(path, part)
            if field in _CODE_FIELDS and _is_python(root, part, kind):
                code, magic = _magic(value)
                is_sql = magic and looks_like_sql(code)
                was_read = frames.read_sql(path, label, code) if is_sql else frames.read(path, label, code)
                left = left or not was_read
                followed |= {path} if was_read else set()
            elif looks_like_sql(value) and statements < _MOST_STATEMENTS:
                statements += 1
                found, more, was_read = sql_references(path, label, value)
                references += found
                flows += more
                followed |= {path} if was_read else set()
                unread += not was_read and is_sql_script
    found, more = frames.references()
    if left:  # what could not be followed may use what the rest reads: there the words tell
        found += [replace(one, parts=None) for one in found if not one.writes]
    return _Code(references + found, list(dict.fromkeys(flows + more)), followed, unread == 0)


def _is_python(root: Part, part: Part, kind: str) -> bool:
    if kind == "notebook":
        return part.type == "cell" and str(part.fields.get("language", "")).lower() in _PYTHON
    return kind == "script" and root.label == "module"


def _magic(code: str) -> tuple[str, bool]:
    """The code of a cell without its first line where that hands it to SQL."""
    first, _, rest = code.lstrip().partition("\n")
    return (rest, True) if re.match(r"%%\w*sql", first) else (code, False)


def _with_wiring(parts: list[tuple[str, Part]], names: list[Reference]) -> list[Reference]:
    """Steps that run something: which inputs they give it, and which of its outputs others take."""
    steps = {path: part for path, part in parts if part.type == "step" and "run" in part.fields}
    if not steps:
        return names
    taken = _taken(parts)
    result = []
    for named in names:
        step = steps.get(named.place)
        if step is None or not named.exact or not str(step.fields["run"]).endswith(named.text):
            result.append(named)
            continue
        inputs = [
            UsedPart(str(child.key), "input", here, child.label, True)
            for here, child in parts_of(step, named.place)
            if child.type == "source" and child.key
        ]
        outputs = [UsedPart(name, "output", *where, True) for name, where in taken.get(str(step.key), [])]
        result.append(replace(named, parts=(*inputs, *outputs)))
    return result


def _taken(parts: list[tuple[str, Part]]) -> dict[str, list[tuple[str, tuple[str, str]]]]:
    """By key of a step the outputs that are taken from it ("step/output"), and where."""
    found: dict[str, list[tuple[str, tuple[str, str]]]] = {}
    for path, part in parts:
        for value in part.fields.values():
            for word in value.replace(",", " ").split() if isinstance(value, str) and "/" in value else ():
                step, _, output = word.partition("/")
                if output and "/" not in output:
                    found.setdefault(step, []).append((output, (path, part.label)))
    return found


def _words(parts: Iterable[tuple[str, Part]], followed: set[str]) -> tuple[dict[str, list[int]], list[UsePlace]]:
    """The words and short whole texts of the parts, with the numbers of the innermost places that hold them.

    Of parts whose code was followed only what stands beside the code counts.
    """
    found: dict[str, list[int]] = {}
    places: list[UsePlace] = []
    for path, part in parts:
        used = False
        for text in _texts(path, part, followed):
            whole = [text] if len(text) <= _LONGEST else []
            for word in dict.fromkeys([*whole, *_WORD.findall(text)]):
                known = found.get(word)
                if known is None:
                    if len(found) >= _MOST_WORDS:
                        continue
                    known = found[word] = []
                if len(known) < _MOST_PLACES and (not known or known[-1] != len(places)):
                    known.append(len(places))
                    used = True
        if used:
            places.append(UsePlace(path, said_of(path, part), False))
    return {word: _innermost(numbers, places) for word, numbers in found.items()}, places


def _texts(path: str, part: Part, followed: set[str]) -> Iterable[str]:
    if part.key:
        yield part.key
    for field, value in part.fields.items():
        if isinstance(value, str) and not (path in followed and (field in _CODE_FIELDS or looks_like_sql(value))):
            yield value


def _innermost(numbers: list[int], places: list[UsePlace]) -> list[int]:
    """Without places that merely contain another place that was found."""
    if len(numbers) == 1:
        return numbers
    paths = [places[number].place for number in numbers]
    return [n for n, own in zip(numbers, paths, strict=True) if not any(_is_below(path, own) for path in paths)]


def _is_below(path: str, other: str) -> bool:
    return path != other and path.startswith(f"{other.rstrip('/')}/")

"""What a file of test results in the JUnit form comes to."""

from __future__ import annotations

from collections import Counter

from everyshelf.core.errors import InvalidError, UnreadableError
from everyshelf.core.kinds.reading import read_outline, recognise_file
from everyshelf.core.kinds.rules import Rules
from everyshelf.core.outline.model import Part
from everyshelf.core.runs.counted import Results

_MOST_NAMED = 3


def read_results(data: bytes, name: str = "results.xml") -> Results:
    """The results in a JUnit file; raises ``InvalidError`` if it is none or holds no case."""
    try:
        found = recognise_file(name, data, Rules())
        if found.kind != "tests" or found.format != "xml":
            raise InvalidError(f"{name} is not a file of test results in the JUnit form", code="check.junit")
        root = read_outline(name, data, found, Rules()).root
    except (UnreadableError, RecursionError) as error:
        raise InvalidError(f"{name} cannot be read: {error}", code="check.junit") from error
    cases = _cases(root)
    if not cases:
        raise InvalidError(f"{name} holds no test case", code="check.junit", hint="Did the tests run?")
    count = Counter(str(case.fields.get("status")) for case in cases)
    wrong = [case.label for case in cases if case.fields.get("status") not in ("passed", "skipped")]
    skipped, passed = count["skipped"], count["passed"]
    return Results(passed, len(wrong), skipped, tuple(wrong[:_MOST_NAMED]))


def _cases(part: Part) -> list[Part]:
    found = [part] if part.type == "case" else []
    for child in part.children():
        found += _cases(child)
    return found

"""Ten releases of published packages, one commit each: the origin of each line and function must be the release that a
plain script finds, which uses nothing of ours. The releases come from the package registry."""

from __future__ import annotations

import ast
import difflib
import itertools
import re
import warnings
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory

from tests.support.service import Service

from bench.histories import releases_of, unpack
from bench.measure import Figure
from everyshelf.client import ChangeRequest, ShelfClient
from everyshelf.core.answers.origins import OriginsAnswer

_PACKAGES = ("click", "attrs", "jsonschema", "packaging", "itsdangerous")
_RELEASES = 10
_SUFFIXES = (".py", ".rst", ".md", ".toml", ".cfg", ".txt", ".json")
_MOST_BYTES = 400_000
# Shorter ones ("return value") may be another line that says the same.
_LONG_ENOUGH = 16


def releases() -> Iterator[Figure]:
    """Over all files that changed: lines and functions with another origin than the script finds."""
    asked, wrong, unclear, files = Counter[str](), Counter[str](), Counter[str](), 0
    examples: list[str] = []
    service = Service()
    try:
        client = service.client()
        for package in _PACKAGES:
            with TemporaryDirectory(prefix="es-releases-") as home:
                versions = _texts(package, Path(home))
            shelf = client.shelf(client.make_shelf(f"Releases of {package}").key)
            commits = [_commit(shelf, before, after) for before, after in zip([{}, *versions], versions, strict=False)]
            for path in sorted(versions[-1]):
                history = [files_[path] for files_ in versions if path in files_]
                if len(history) < _RELEASES or len(set(history)) < 3:
                    continue
                files += 1
                number = {commit: n for n, commit in enumerate(commits)}
                for sort, truth, told in _both(shelf, path, history, number):
                    for key, right in truth.items():
                        if key in told:
                            asked[sort] += 1
                            unclear[sort] += len(right) > 1
                            if told[key] not in right:
                                wrong[sort] += 1
                                examples.append(f"{package} {path} {key[:60]!r}: {told[key]} and not {sorted(right)}")
    finally:
        service.stop()
    for line in examples[:40]:
        print(f"     {line}")
    for sort in ("line", "function"):
        detail = (
            f"{asked[sort]:,} {sort}s in {files} files of {len(_PACKAGES)} packages, {_RELEASES} releases each; "
            f"of {unclear[sort]:,} the scripts say two releases, and one of them counts"
        )
        yield Figure(
            "C3", f"{sort}s with a wrong origin, over published releases", wrong[sort], "0", not wrong[sort], detail
        )


def _texts(package: str, home: Path) -> list[dict[str, str]]:
    """The text files of the last releases, oldest first."""
    found = []
    for number, release in enumerate(releases_of(package, home / "kept", _RELEASES)):
        there = home / str(number)
        there.mkdir()
        unpack(release, there)
        texts = {}
        for file in sorted(there.rglob("*")):
            if (
                file.is_file()
                and not file.is_symlink()
                and file.suffix in _SUFFIXES
                and file.stat().st_size < _MOST_BYTES
            ):
                try:
                    texts[file.relative_to(there).as_posix()] = file.read_bytes().decode("utf-8")
                except UnicodeDecodeError:
                    continue
        found.append(texts)
    return found


def _commit(shelf: ShelfClient, before: dict[str, str], after: dict[str, str]) -> str:
    changes = [
        ChangeRequest(path, shelf.upload(text.encode()).id) for path, text in after.items() if before.get(path) != text
    ]
    changes += [ChangeRequest(path, None) for path in before.keys() - after.keys()]
    return str(shelf.commit("main", shelf.branch("main").head, changes, "A release").commit)


def _both(
    shelf: ShelfClient, path: str, history: list[str], number: dict[str, int]
) -> Iterator[tuple[str, dict[str, set[int]], dict[str, int]]]:
    """What the script finds, and what the shelf says: lines, and functions of Python."""
    told = shelf.origins(path, form="lines")
    yield "line", _line_truth(history), _lines_told(told, history[-1], number)
    if path.endswith(".py"):
        parts = shelf.origins(path, form="parts")
        if parts.form == "parts":
            functions = {
                _function_key(part.path): number[part.set] for part in parts.parts if part.path.count("/function:") == 1
            }
            yield "function", _function_truth(history), functions


def _lines_told(told: OriginsAnswer, text: str, number: dict[str, int]) -> dict[str, int]:
    lines = text.splitlines()
    return {
        _bare(lines[n - 1]): number[run.set]
        for run in told.lines
        for n in range(run.first, run.first + run.count)
        if n <= len(lines)
    }


def _bare(line: str) -> str:
    return re.sub(r"\s+", "", line)


def _line_truth(history: list[str]) -> dict[str, set[int]]:
    """Of lines that are nowhere twice, two answers that can differ where a list was rewritten with a line of the same
    text: the first of the releases in a row, up to the last, that have the line; and that from which on difflib of the
    standard library keeps it."""
    bare = [[_bare(line) for line in text.splitlines()] for text in history]
    counts = [Counter(lines) for lines in bare]
    kept = [0] * len(bare[0])
    for release, (old, new) in enumerate(itertools.pairwise(bare), 1):
        now = [release] * len(new)
        for a, b, size in difflib.SequenceMatcher(None, old, new, autojunk=False).get_matching_blocks():
            now[b : b + size] = kept[a : a + size]
        kept = now
    return {
        line: {_since([line in count for count in counts]), kept[place]}
        for place, line in enumerate(bare[-1])
        if len(line) >= _LONG_ENOUGH and all(count[line] <= 1 for count in counts)
    }


def _since(there: list[bool]) -> int:
    release = len(there) - 1
    while release and there[release - 1]:
        release -= 1
    return release


def _function_truth(history: list[str]) -> dict[str, set[int]]:
    """The first of the releases in a row, up to the last, in which a function is as it is now, but for its docstring: in
    a class of any name, as long as one function is so."""
    held = [_functions(text) for text in history]
    if any(one is None for one in held):
        return {}
    known = [one for one in held if one is not None]
    counts = [Counter(one.values()) for one in known]
    return {
        key: {_since([dump in count for count in counts])}
        for key, dump in known[-1].items()
        if all(count[dump] <= 1 for count in counts)
    }


def _functions(text: str) -> dict[str, str] | None:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            module = ast.parse(text)
    except (SyntaxError, ValueError):
        return None
    found: dict[str, str] = {}
    twice = set()
    for holder, body in [("", module.body), *((c.name, c.body) for c in module.body if isinstance(c, ast.ClassDef))]:
        for one in body:
            if isinstance(one, ast.FunctionDef | ast.AsyncFunctionDef):
                key = f"{holder}.{one.name}" if holder else one.name
                if key in found:
                    twice.add(key)
                if ast.get_docstring(one, clean=False) is not None:
                    one.body = one.body[1:]
                found[key] = ast.dump(one)
    return {key: dump for key, dump in found.items() if key not in twice}


def _function_key(path: str) -> str:
    steps = [step.partition(":") for step in path.strip("/").split("/")]
    return ".".join(name for _, _, name in steps)

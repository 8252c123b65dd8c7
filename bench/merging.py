"""T15, and the campaign of generated edits: how many pairs merge on their own, whether any merges wrongly, and how a
plain three-way merge by lines does on the same pairs."""

from __future__ import annotations

import random
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import orjson

from bench.edits import FORMATS, colliding, disjoint
from bench.edits.model import Format, Pair
from bench.meaning import records
from bench.measure import Figure, interleave
from everyshelf.core.merge.artifact import Versions, merge_artifacts
from everyshelf.core.merge.model import Merged

PAIRS = 1000
_EDITS = 500


def _edited(tree: dict[str, Any], seed: int, parity: int) -> bytes:
    """500 fares changed, in records of one parity: both sides touch other records."""
    changed = orjson.loads(orjson.dumps(tree))
    rows = changed["sailings"]
    for n in random.Random(seed).sample(range(parity, len(rows), 2), _EDITS):
        rows[n]["fare"] += 1
    return orjson.dumps(changed, option=orjson.OPT_INDENT_2)


def _speed() -> Figure:
    tree = records(10_000, 16)
    base = orjson.dumps(tree, option=orjson.OPT_INDENT_2)
    target, source = _edited(tree, 1, 0), _edited(tree, 2, 1)

    def on_target() -> None:
        found = merge_artifacts(Versions("s.json", base, target, source))
        assert found.content is not None and found.combined == 2 * _EDITS

    def rival() -> None:
        for data in (base, target, source):
            orjson.loads(data)

    taken = interleave({"ours": on_target, "parsing": rival})
    ratio = taken["ours"] / taken["parsing"]
    what = f"JSON, {len(base) / 1e6:.0f} MB, {_EDITS} edits a side: merge, against parsing three"
    detail = f"{taken['on_target']:.2f} against {taken['parsing']:.2f} s"
    return Figure("T15", what, ratio, "<= 5", ratio <= 5, detail)


def _merged(pair: Pair) -> Merged:
    return merge_artifacts(Versions(pair.file, pair.base, pair.target, pair.source))


def _by_lines(pair: Pair, folder: Path) -> bytes | None:
    """What Git's three-way merge of files gives; None if it has conflicts."""
    names = []
    for name, data in (("target", pair.target), ("base", pair.base), ("source", pair.source)):
        path = folder / name
        path.write_bytes(data)
        names.append(str(path))
    done = subprocess.run(["git", "merge-file", "-p", "-q", *names], capture_output=True, check=False)
    return done.stdout if done.returncode == 0 else None


def _campaign(form: Format) -> Iterator[Figure]:
    alone = wrong = lines_alone = lines_wrong = 0
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(PAIRS):
            pair = disjoint(form, seed)
            want = form.read(pair.both.decode())
            found = _merged(pair).content
            alone += found is not None
            wrong += found is not None and not _says(form, found, want)
            plain = _by_lines(pair, Path(folder))
            lines_alone += plain is not None
            lines_wrong += plain is not None and not _says(form, plain, want)
    silent = sum(_merged(colliding(form, seed)).content is not None for seed in range(PAIRS))
    share, plain_share = 100 * alone / PAIRS, 100 * lines_alone / PAIRS
    detail = f"by lines: {plain_share:.1f} % merge, {lines_wrong} of them wrongly"
    yield Figure("M1", f"{form.name}: % of {PAIRS} pairs that merge on their own", share, ">= 99", share >= 99, detail)
    yield Figure("M2", f"{form.name}: of these merged wrongly", wrong, "0", wrong == 0, "")
    yield Figure("M3", f"{form.name}: of {PAIRS} collisions merged in silence", silent, "0", silent == 0, "")


def _says(form: Format, data: bytes, want: object) -> bool:
    try:
        return bool(form.read(data.decode()) == want)
    except Exception:
        return False  # it cannot even be read


def merging() -> Iterator[Figure]:
    """The figure and the campaign, format by format."""
    yield _speed()
    for form in FORMATS:
        yield from _campaign(form)

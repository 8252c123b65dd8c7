"""Which modules of tests run in which set, and how long each took when that was last noted.

``make test`` is what every change must pass. ``make nightly`` runs everything: also what is listed here, the laws with
all of their examples, and the cuts of the safety nets. A module is listed when it is slow and what it guards is seldom
touched: campaigns of crashes and damage, the same tasks on every kind of store, fuzzing, real files published by others.
"""

from __future__ import annotations

import json
from pathlib import Path

_SECONDS = Path(__file__).with_name("seconds.json")
_UNKNOWN_SECONDS = 60.0

NIGHTLY = {
    "tests.cluster.test_processes": "long work on processes of a cluster",
    "tests.core.test_published_binaries": "files published by others",
    "tests.core.test_published_files": "files published by others",
    "tests.core.test_published_tables": "files published by others",
    "tests.core.test_real_files": "files published by others",
    "tests.service.test_crashes": "a campaign of crashes",
    "tests.service.test_damaged_data": "a campaign of damage",
    "tests.service.test_git_converges": "200 steps of two people over a link",
    "tests.service.test_long_commits": "work of minutes",
    "tests.service.test_long_merges": "work of minutes",
    "tests.service.test_long_queries": "work of minutes",
    "tests.service.test_object_storage": "the same tasks with the versions in a bucket",
    "tests.service.test_odd_calls": "fuzzing",
    "tests.service.test_seams": "random steps of two people across everything in which work can be",
    "tests.service.test_soak": "a campaign of growth",
    "tests.service.test_spreading": "long work shared out among processes that are killed",
    "tests.service.test_stores": "the same tasks on every kind of store",
}


def modules() -> list[str]:
    """Every module of tests."""
    root = Path(__file__).parent
    return [".".join(p.relative_to(root.parent).with_suffix("").parts) for p in sorted(root.rglob("test_*.py"))]


def longest_first(names: list[str]) -> list[str]:
    """The modules in the order in which they begin, so that the end is not a wait for one of them."""
    noted: dict[str, float] = json.loads(_SECONDS.read_text())
    return sorted(names, key=lambda name: -noted.get(name, _UNKNOWN_SECONDS))


def note(seconds: dict[str, float]) -> None:
    """Note how long modules took; those that did not run keep their figures."""
    known = json.loads(_SECONDS.read_text()) if _SECONDS.exists() else {}
    there = set(modules())
    now = {name: round(value) for name, value in {**known, **seconds}.items() if name in there}
    _SECONDS.write_text(json.dumps(dict(sorted(now.items())), indent=1) + "\n")

"""Folder trees, commits, ancestry and the merge of whole artifacts."""

from __future__ import annotations

import tempfile
import tracemalloc
import unittest
from pathlib import Path
from typing import Any

import orjson
from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.content.ids import content_id
from everyshelf.core.content.store import ContentStore
from everyshelf.core.errors import BrokenError, InvalidError
from everyshelf.core.history.commits import CommitData, decode_commit, encode_commit
from everyshelf.core.history.merging import as_wholes, merge_trees
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.raw_rows import rows_apart
from everyshelf.core.history.trees import Entry, Trees
from everyshelf.core.merge.model import Side
from tests.support.laws import law

NAMES = st.sampled_from([f"{folder}{n}" for folder in ("", "data/", "data/old/", "flows/") for n in range(40)])
STATES = st.dictionaries(NAMES, st.integers(0, 3), max_size=60)


def entry(path: str, value: object) -> Entry:
    return Entry(path.rpartition("/")[2], "artifact", content_id(str(value).encode()), 4)


class TreeCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.store = ContentStore(Path(folder.name))
        self.addCleanup(self.store.close)
        self.trees = Trees(self.store)

    def root(self, state: dict[str, object]) -> str:
        return self.trees.apply(self.trees.empty, {p: entry(p, v) for p, v in state.items()})


class TreeTests(TreeCase):
    """A tree is its entries, whatever the history."""

    def test_versions_of_a_folder_that_were_read_hold_what_they_share_once(self) -> None:
        root = self.root({f"fares-{n:03}.json": n for n in range(100)})
        roots = [root]
        for n in range(300):
            name = f"fares-{n % 100:03}.json"
            roots.append(self.trees.apply(roots[-1], {name: entry(name, 100 + n)}))
        read = Trees(self.store)
        tracemalloc.start()
        self.addCleanup(tracemalloc.stop)
        for n, root in enumerate(roots):
            self.assertEqual(len(list(read.walk(root))), 100, n)
        held, _ = tracemalloc.get_traced_memory()
        # 30,000 rows of 300 bytes each are nine megabytes; their bytes as they are stored are three.
        self.assertLess(held, 6_000_000)

    @law(60)
    @given(STATES, STATES)
    def test_history_leaves_no_trace(self, before: dict[str, int], after: dict[str, int]) -> None:
        changes: dict[str, Entry | None] = {p: None for p in before if p not in after}
        changes |= {p: entry(p, v) for p, v in after.items()}
        root = self.trees.apply(self.root(before), changes)
        self.assertEqual(root, self.root(after))
        self.assertEqual(dict(self.trees.walk(root)), {p: entry(p, v) for p, v in after.items()})
        self.assertEqual(self.trees.count(root), len(after))

    @law(60)
    @given(STATES, STATES)
    def test_changes_are_exactly_the_differences(self, before: dict[str, int], after: dict[str, int]) -> None:
        found = {c.path: (c.before, c.after) for c in self.trees.changes(self.root(before), self.root(after))}
        expected = {
            p: (entry(p, before[p]) if p in before else None, entry(p, after[p]) if p in after else None)
            for p in before.keys() | after.keys()
            if before.get(p) != after.get(p)
        }
        self.assertEqual(found, expected)

    @law(60)
    @given(STATES, st.integers(0, 70), st.booleans())
    def test_a_page_is_that_part_of_the_walk(self, state: dict[str, int], start: int, files: bool) -> None:
        root = self.root(state)
        old = self.trees.find(root, "data/old")
        if old is not None and state.get("data/old") is None:
            root = self.trees.apply(root, {"data/old": self.trees.whole("old", old.id)})
        rows = list((self.trees.files if files else self.trees.walk)(root))
        self.assertEqual(list(self.trees.page(root, start=start, files=files)), rows[start:])
        self.assertEqual((self.trees.count_files if files else self.trees.count)(root), len(rows))

    @law(60)
    @given(STATES, STATES)
    def test_changes_are_the_same_when_nothing_is_in_memory(
        self, before: dict[str, int], after: dict[str, int]
    ) -> None:
        """Folders that were read are compared by their bytes, those that were written by what they hold."""
        roots = self.root(before), self.root(after)
        read = Trees(self.trees._store)
        self.assertEqual(list(read.changes(*roots)), list(self.trees.changes(*roots)))
        self.assertEqual(dict(read.walk(roots[1])), {p: entry(p, v) for p, v in after.items()})

    def test_a_content_that_is_no_folder_is_named(self) -> None:
        for data in (b'{"entries":[["a"]],"level":0}', b'{"entries":7,"level":1}', b"a,b\n1,2\n"):
            with self.subTest(data=data):
                node = self.trees._store.put(data).id
                with self.assertRaisesRegex(BrokenError, f"folder node {node[:12]} is not one"):
                    list(self.trees.walk(node))

    def test_wide_folders_of_different_depth_are_compared(self) -> None:
        many = self.root({f"wide/artifact-{n:05}": n % 7 for n in range(18_000)})
        some = {f"wide/artifact-{n:05}": n % 7 for n in range(0, 18_000, 60)}
        few = self.root({**some, "wide/artifact-00060": 6})
        changes = list(self.trees.changes(few, many))
        self.assertEqual(len(changes), 18_000 - len(some) + 1)
        self.assertIn("wide/artifact-00060", [c.path for c in changes if c.before is not None])
        self.assertEqual(len(list(self.trees.changes(many, few))), len(changes))

    def test_wide_folder_rewrites_little(self) -> None:
        state: dict[str, object] = {f"artifact-{n:05d}.json": n for n in range(20_000)}
        root = self.root(state)
        store = self.trees._store
        before = sum(len(r.payload) for _, _, r in store.segments.iter_all())
        changed = self.trees.apply(root, {"artifact-10000.json": entry("artifact-10000.json", "x")})
        grown = sum(len(r.payload) for _, _, r in store.segments.iter_all()) - before
        self.assertLess(grown, 40_000)  # one block of about 128 entries and the index above it
        self.assertEqual([c.path for c in self.trees.changes(root, changed)], ["artifact-10000.json"])
        state["artifact-10000.json"] = "x"
        self.assertEqual(changed, self.root(state))

    def test_artifact_cannot_hold_another(self) -> None:
        with self.assertRaises(InvalidError) as caught:
            self.trees.apply(self.root({"fares": 1}), {"fares/child.csv": entry("child.csv", 2)})
        self.assertEqual(caught.exception.code, "path.taken")

    def test_file_may_become_a_folder(self) -> None:
        root = self.trees.apply(self.root({"fares": 1}), {"fares": None, "fares/child.csv": entry("child.csv", 2)})
        self.assertEqual([p for p, _ in self.trees.walk(root)], ["fares/child.csv"])


ROWS = st.dictionaries(
    st.one_of(st.sampled_from(['a"],["b', "[[", "]]", '"', "ü", "\\"]), st.text(min_size=1, max_size=8)),
    st.tuples(st.sampled_from(["0" * 64, "f" * 64]), st.integers(0, 120)),
    min_size=1,
    max_size=12,
)


class RawRowsTests(unittest.TestCase):
    """Two blocks are compared by their bytes."""

    @law(300)
    @given(ROWS, ROWS)
    def test_rows_are_those_that_only_one_has(self, one: dict[str, Any], other: dict[str, Any]) -> None:
        rows = [[(name, "a", *rest) for name, rest in sorted(side.items())] for side in (one, other)]
        found = rows_apart(*(orjson.dumps({"entries": side, "level": 0}) for side in rows))
        left, right = map(set, rows)
        if found is not None:
            self.assertEqual(found, (left - right, right - left))
        elif not any(mark in name for mark in ('"],["', "]]", "[[") for name in (*one, *other)):
            self.fail("the bytes tell, and it did not see it")

    def test_rows_of_an_empty_folder_are_not_told_by_bytes(self) -> None:
        self.assertIsNone(rows_apart(b'{"entries":[],"level":0}', b'{"entries":[["a","a","0",1]],"level":0}'))


class PathTests(unittest.TestCase):
    """Nothing from outside leads outside."""

    def test_hostile_paths_are_refused(self) -> None:
        for path in (
            "",
            "..",
            "../a",
            "a/../b",
            "/etc/passwd",
            "a//b",
            "a/",
            "C:/x",
            "a\\b",
            "a\0b",
            "con",
            "x/NUL.txt",
            "a. ",
            "\u202egnp.exe",
            ".everyshelf/desk.json",
            "a\nb",
            "x" * 300,
            "\ud800",
        ):
            with self.subTest(path=path), self.assertRaises(InvalidError) as caught:
                check_path(path)
            self.assertEqual(caught.exception.code, "path.invalid")

    def test_ordinary_names_pass(self) -> None:
        for path in ("fares.csv", "Färja/tidtabell 2026.xlsx", "時刻表/春.json", "a/.hidden", "console.json", "naïve"):
            self.assertEqual(check_path(path), path)


class CommitTests(unittest.TestCase):
    """The id is the hash of what is said."""

    def commit(self, **changed: object) -> CommitData:
        values = {"root": "0" * 64, "parents": [], "author": "maren", "time": "2026-03-01T00:00:00", "summary": "x"}
        return CommitData(**{**values, **changed})  # type: ignore[arg-type]

    def test_same_words_give_the_same_id(self) -> None:
        one = encode_commit(self.commit(labels={"a": "1", "b": "2"}))
        other = encode_commit(self.commit(labels={"b": "2", "a": "1"}))
        self.assertEqual(one, other)
        self.assertEqual(decode_commit(one[1]), self.commit(labels={"a": "1", "b": "2"}))

    def test_every_field_counts(self) -> None:
        plain, _ = encode_commit(self.commit())
        for changed in ({"summary": "y"}, {"author": "ines"}, {"parents": ["1" * 64]}, {"tasks": ["SK-1"]}):
            self.assertNotEqual(encode_commit(self.commit(**changed))[0], plain)


class MergeTests(TreeCase):
    """Laws of merging whole artifacts."""

    def merged(self, base: dict[str, int], this: dict[str, int], other: dict[str, int], prefer: Side | None = None):  # type: ignore[no-untyped-def]
        roots = [self.root(dict(s)) for s in (base, this, other)]
        plan = merge_trees(self.trees, *roots, as_wholes(prefer))
        return self.trees.apply(roots[1], plan.changes), plan, roots

    @law(40)
    @given(STATES, STATES)
    def test_unchanged_side_gives_the_other(self, base: dict[str, int], new: dict[str, int]) -> None:
        self.assertEqual(self.merged(base, base, new)[0], self.root(dict(new)))
        self.assertEqual(self.merged(base, new, base)[0], self.root(dict(new)))
        self.assertEqual(self.merged(base, new, new)[1].conflicts, [])

    def test_changes_to_different_artifacts_combine(self) -> None:
        root, plan, _ = self.merged({"a": 1, "b": 1}, {"a": 2, "b": 1}, {"a": 1, "b": 3, "c": 4})
        self.assertEqual((root, plan.conflicts), (self.root({"a": 2, "b": 3, "c": 4}), []))

    def test_same_artifact_on_both_sides_conflicts(self) -> None:
        root, plan, roots = self.merged({"a": 1}, {"a": 2}, {"a": 3})
        self.assertEqual([c.path for c in plan.conflicts], ["a"])
        self.assertEqual(root, roots[1])

    def test_edit_against_removal_conflicts(self) -> None:
        self.assertEqual([c.path for c in self.merged({"a": 1}, {}, {"a": 3})[1].conflicts], ["a"])
        self.assertEqual([c.path for c in self.merged({"a": 1}, {"a": 3}, {})[1].conflicts], ["a"])

    def test_preference_settles_all(self) -> None:
        self.assertEqual(self.merged({"a": 1}, {"a": 2}, {"a": 3}, prefer="source")[0], self.root({"a": 3}))
        self.assertEqual(self.merged({"a": 1}, {"a": 2}, {"a": 3}, prefer="target")[0], self.root({"a": 2}))

    def test_edit_follows_a_move_on_either_side(self) -> None:
        moved = {"new/a": 10}
        self.assertEqual(self.merged({"a": 10}, moved, {"a": 11})[0], self.root({"new/a": 11}))
        self.assertEqual(self.merged({"a": 10}, {"a": 11}, moved)[0], self.root({"new/a": 11}))

    def test_file_against_folder_conflicts(self) -> None:
        plan = self.merged({}, {"a": 1}, {"a/b": 2})[1]
        self.assertEqual([c.path for c in plan.conflicts], ["a/b"])

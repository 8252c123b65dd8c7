"""D: the safety nets below merging, history and promotion, each with a test that fails when it is cut."""

from __future__ import annotations

import json
import os
import random
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

from everyshelf.core.compare.realign import regenerated_ids
from everyshelf.core.content.ids import content_id
from everyshelf.core.content.store import ContentStore
from everyshelf.core.history.trees import Entry, Trees
from everyshelf.core.merge.artifact import Versions, merge_artifacts
from everyshelf.core.merge.lines import merge_lines
from everyshelf.core.promotion.destination import Placed
from everyshelf.core.promotion.folder import FolderDestination
from tests.support.factories import compared

FLOW = '{\n  "name": "night",\n  "steps": [\n    {"id": "weigh", "run": "weigh.py"},\n    {"id": "load", "run": "load.py", "after": "weigh"}\n  ]\n}\n'


class ReadAgainTests(unittest.TestCase):
    """What was put together is read again, and must say what was meant."""

    def merged(self, around: str, base: str, name: str = "flow.json") -> object:
        one, other = base.replace("weigh.py", "scale.py"), base.replace("load.py", "crane.py")
        with mock.patch("everyshelf.core.merge.artifact._around", side_effect=[(around, None), ("", None)]):
            return merge_artifacts(Versions(name, base.encode(), one.encode(), other.encode()))

    def test_what_cannot_be_read_is_never_a_result(self) -> None:
        found = self.merged("{ not json ", FLOW)
        self.assertIsNone(found.content)
        self.assertIn("put together it would not", " ".join(found.notes) + " ".join(c.why for c in found.conflicts))

    def test_what_says_something_else_is_never_a_result(self) -> None:
        base = "steps:\n  - id: a\n    run: weigh.py\n  - id: b\n    run: load.py\n"
        self.assertIsNone(self.merged("added: 1\n", base, "flow.yaml").content)
        self.assertIsNotNone(self.merged("# a comment\n", base, "flow.yaml").content)


class WideFolderTests(unittest.TestCase):
    """Folders of more than a block: no name is lost at a border, whatever the history."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.trees = Trees(ContentStore(Path(folder.name)))

    def entry(self, name: str, value: int) -> Entry:
        return Entry(name, "artifact", content_id(str(value).encode()), 4)

    def built(self, state: dict[str, int]) -> str:
        return self.trees.apply(self.trees.empty, {n: self.entry(n, v) for n, v in state.items()})

    def test_any_history_gives_the_same_folder_with_every_name(self) -> None:
        for seed in range(12):
            rng = random.Random(seed)
            names = [f"n{rng.randrange(10**6):06}" for _ in range(rng.choice([129, 300, 700, 1500]))]
            state = {name: rng.randrange(4) for name in names}
            root = self.built(state)
            for _ in range(5):
                first, last = min(state), max(state)
                chosen = rng.sample(sorted(state), 6)
                changes: dict[str, Entry | None] = dict.fromkeys([*chosen[:3], last])
                changes |= {n: self.entry(n, 9) for n in (chosen[3], first, f"z{rng.random()}", f"a{rng.random()}")}
                root = self.trees.apply(root, changes)
                for name, change in changes.items():
                    if change is None:
                        state.pop(name, None)
                    else:
                        state[name] = 9
                self.assertEqual(root, self.built(state), f"seed {seed}")
                self.assertEqual({p for p, _ in self.trees.walk(root)}, set(state))
                for name in (*chosen, first, last, max(state), min(state)):
                    self.assertEqual(self.trees.find(root, name) is not None, name in state, name)

    def test_any_one_name_can_go(self) -> None:
        """The last name of a block among them: the block after it takes in the rest although nothing changes there."""
        names = [f"n{k:05}" for k in range(700)]
        whole = self.built(dict.fromkeys(names, 0))
        for name in names[::2] + names[-1:]:
            less = self.trees.apply(whole, {name: None})
            self.assertEqual(less, self.built({n: 0 for n in names if n != name}), name)

    def test_changes_of_wide_folders_are_exact(self) -> None:
        rng = random.Random(3)
        before = {f"n{k:05}": 0 for k in range(900)}
        after = dict(before)
        for name in rng.sample(sorted(before), 30):
            after[name] = 1
        for name in [max(before), *rng.sample(sorted(before), 10)]:
            after.pop(name, None)
        found = {c.path for c in self.trees.changes(self.built(before), self.built(after))}
        self.assertEqual(found, {n for n in before if before[n] != after.get(n)})


class LinesTests(unittest.TestCase):
    """A change among equal lines may be about any of them."""

    def clashes(self, base: str, one: str, other: str) -> bool:
        return any(piece.clash for piece in merge_lines(*(text.split() for text in (base, one, other))))

    def test_changes_among_equal_lines_meet(self) -> None:
        for base, one, other in (
            ("x a a y", "x a a a y", "x a y"),
            ("x a a a y", "x a a y", "x a a a a y"),
            ("x a b a b y", "x a b a b a b y", "x a b y"),
        ):
            self.assertTrue(self.clashes(base, one, other), (base, one, other))
            self.assertTrue(self.clashes(base, other, one), (base, other, one))

    def test_changes_elsewhere_do_not(self) -> None:
        self.assertFalse(self.clashes("x a a y", "x a a a y", "z a a y"))


class ReferenceTests(unittest.TestCase):
    """What one side removed while the other newly refers to it, in every form a reference has."""

    def conflicts(self, other: dict[str, object], key: object = "weigh") -> list[str]:
        base = {
            "steps": [
                {"id": key, "run": "weigh.py"},
                {"id": "load", "run": "load.py", "after": key, "input": "weigh/out", "text": "${weigh.out}"},
                {"id": "sail", "run": "sail.py"},
            ]
        }
        gone = json.loads(json.dumps(base))
        gone["steps"].pop(0)
        for name in ("after", "input", "text"):
            del gone["steps"][0][name]
        changed = json.loads(json.dumps(base))
        changed["steps"][2].update(other)
        texts = [json.dumps(value, indent=1).encode() for value in (base, gone, changed)]
        merged = merge_artifacts(Versions("flow.json", *texts))
        self.assertEqual(merged.content is None, bool(merged.conflicts))
        return [c.why for c in merged.conflicts]

    def test_every_form(self) -> None:
        for reference in ({"after": "weigh"}, {"input": "weigh/out"}, {"text": "say ${weigh.out} now"}):
            (why,) = self.conflicts(reference)
            self.assertIn(", used ", why, reference)

    def test_a_word_in_a_sentence_is_no_reference(self) -> None:
        self.assertEqual(self.conflicts({"note": "they weigh it first"}), [])
        self.assertEqual(self.conflicts({"after": "weighing"}), [])

    def test_a_number_may_be_a_key(self) -> None:
        (why,) = self.conflicts({"after": 704}, key=704)
        self.assertIn(", used ", why)


class RegeneratedTests(unittest.TestCase):
    """Ids are taken for regenerated only where what they name is the same."""

    def flow(self, ids: list[str], words: str = "step") -> dict[str, object]:
        return {"steps": [{"id": one, "run": f"{words}-{n}.py"} for n, one in enumerate(ids)]}

    def test_equal_things_with_other_ids(self) -> None:
        old, new = [f"a{n}" for n in range(8)], [f"z{n}" for n in range(8)]
        self.assertEqual(regenerated_ids(self.flow(old), self.flow(new)), dict(zip(new, old, strict=True)))

    def test_other_things_with_other_ids(self) -> None:
        old, new = [f"a{n}" for n in range(8)], [f"z{n}" for n in range(8)]
        self.assertEqual(regenerated_ids(self.flow(old), self.flow(new, "other")), {})
        some = self.flow(new, "other")
        some["steps"][0]["run"] = "step-0.py"
        self.assertEqual(regenerated_ids(self.flow(old), some), {}, "one of eight alike is chance")

    def test_ids_that_were_kept_mostly(self) -> None:
        old = [f"a{n}" for n in range(8)]
        new = [*old[:5], "z5", "z6", "z7"]
        made = {"z5": "a5", "z6": "a6", "z7": "a7"}
        self.assertEqual(regenerated_ids(self.flow(old), self.flow(new)), made)
        spoken = [*old[:5], "weigh", "load", "sail"]
        self.assertEqual(regenerated_ids(self.flow(old), self.flow(spoken)), {}, "people rename their steps")


class WhiteSpaceTests(unittest.TestCase):
    """White space inside a text is layout; anything else is not."""

    def effects(self, before: str, after: str) -> dict[str, int]:
        flows = (
            {"steps": [{"id": "a", "name": text, "run": "x"}, {"id": "b", "run": "y"}]} for text in (before, after)
        )
        found: dict[str, int] = compared(*flows, name="flow.json")["effects"]
        return found

    def test_only_white_space_is_cosmetic(self) -> None:
        self.assertEqual(self.effects("Weigh the  van", "Weigh the van"), {"breaks": 0, "alters": 0, "cosmetic": 1})
        changed = self.effects("Weigh the van", "Weigh the vans")
        self.assertEqual(changed["cosmetic"], 0)
        self.assertEqual(changed["breaks"] + changed["alters"], 1)


class StagedTests(unittest.TestCase):
    """What is staged is durable and cannot be edited by chance."""

    def test_every_file_and_folder_is_synced_and_read_only(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        root = Path(folder.name) / "live"
        contents = {path: path.encode() for path in ("a.txt", "deep/b.txt", "deep/er/c.txt")}
        manifest = {path: Placed(content_id(data), len(data)) for path, data in contents.items()}

        def fetch(path: str) -> Iterator[bytes]:
            yield contents[path]

        synced: set[str] = set()
        real = os.fsync

        def fsync(descriptor: int) -> None:
            synced.add(os.readlink(f"/proc/self/fd/{descriptor}"))
            real(descriptor)

        with mock.patch("os.fsync", fsync):
            FolderDestination(root).stage("one", {}, manifest, fetch)
        names = {place.removeprefix(str(root)).replace("one.part", "one") for place in synced}
        for path in (*contents, "deep", "deep/er", ""):
            self.assertIn(f"/deployed/one/{path}".rstrip("/"), names)
        for path in contents:
            self.assertEqual((root / "deployed/one" / path).stat().st_mode & 0o222, 0, path)


class SyncTests(unittest.TestCase):
    """A segment that was synced was given to the disk."""

    def test_sync_reaches_the_file(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        store = ContentStore(Path(folder.name))
        self.addCleanup(store.close)
        store.put(b"kept")
        synced: list[str] = []
        with mock.patch("os.fsync", lambda descriptor: synced.append(os.readlink(f"/proc/self/fd/{descriptor}"))):
            store.sync()
            store.sync()
        self.assertEqual([Path(place).suffix for place in synced], [".seg"], "once, and only where something is new")

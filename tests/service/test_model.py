"""A shelf against a model of itself: whatever is done in whatever order, it holds what a dictionary would."""

from __future__ import annotations

import random
from typing import Any

from everyshelf.client import ChangeRequest, ProblemError
from tests.support.factories import ServiceCase

NAMES = [f"{folder}{name}" for folder in ("", "data/", "flows/old/") for name in ("a.json", "b.csv", "c.txt", "d.bin")]
CONTENTS = [b"", b"{}", b"id,x\n1,2\n", b"text\n", bytes(range(256)), b'{"steps": [{"id": "a", "next": "b"}]}']


class ModelTests(ServiceCase):
    """Random work on two branches, checked after each step through the interface."""

    def setUp(self) -> None:
        super().setUp()
        self.ids = [self.shelf.upload(data).id for data in CONTENTS]
        self.model: dict[str, dict[str, bytes]] = {"main": {}}
        self.saved: dict[str, dict[str, bytes]] = {}

    def content(self, number: int) -> tuple[str, bytes]:
        return self.ids[number], CONTENTS[number]

    def step(self, rng: random.Random, number: int) -> None:
        branch = rng.choice(sorted(self.model))
        act = rng.random()
        if act < 0.65:
            self.change(rng, branch, number)
        elif act < 0.75 and len(self.model) < 3 and self.model["main"]:
            self.shelf.make_branch(f"try-{number}", branch)
            self.model[f"try-{number}"] = dict(self.model[branch])
        elif act < 0.85:
            self.tag(branch, number)
        elif self.saved:
            self.restore(rng, branch, number)

    def change(self, rng: random.Random, branch: str, number: int) -> None:
        wanted: list[ChangeRequest] = []
        after = dict(self.model[branch])
        for path in rng.sample(NAMES, rng.randint(1, 4)):
            if path in after and rng.random() < 0.3:
                wanted.append(ChangeRequest(path, None))
                del after[path]
            else:
                identity, data = self.content(rng.randrange(len(CONTENTS)))
                wanted.append(ChangeRequest(path, identity))
                after[path] = data
        self.attempt(
            branch, after, lambda: self.shelf.commit(branch, self.shelf.branch(branch).head, wanted, f"step {number}")
        )

    def tag(self, branch: str, number: int) -> None:
        if self.shelf.branch(branch).head is not None:
            self.shelf.make_tag(f"tag-{number}", branch)
            self.saved[f"tag:tag-{number}"] = dict(self.model[branch])

    def restore(self, rng: random.Random, branch: str, number: int) -> None:
        ref = rng.choice(sorted(self.saved))
        self.attempt(branch, dict(self.saved[ref]), lambda: self.shelf.restore(branch, ref, summary=f"step {number}"))

    def attempt(self, branch: str, after: dict[str, bytes], act: Any) -> None:
        if after == self.model[branch]:
            with self.assertRaises(ProblemError) as caught:
                act()
            self.assertEqual(caught.exception.code, "commit.empty")
        else:
            act()
            self.model[branch] = after

    def check(self) -> None:
        known = {i: d for i, d in zip(self.ids, CONTENTS, strict=True)}
        for ref, expected in [*self.model.items(), *self.saved.items()]:
            found = {a.path: known[a.content] for a in self.shelf.artifacts(ref)}
            self.assertEqual(found, expected, ref)

    def test_shelf_holds_what_a_dictionary_would(self) -> None:
        for seed in (1, 2, 3):
            rng = random.Random(seed)
            self.setUp()
            for number in range(40):
                self.step(rng, number)
                if number % 8 == 7:
                    self.check()
            self.check()
            self.histories()
        result = self.shelf.wait(self.shelf.verify()).result or {}
        self.assertEqual(result["problems"], [])

    def histories(self) -> None:
        """Version numbers are 1, 2, 3 … without gaps, newest first, and each reads back."""
        known = {i: d for i, d in zip(self.ids, CONTENTS, strict=True)}
        for path in sorted(self.model["main"])[:4]:
            versions = [v for v in self.shelf.history(path) if not v.removed]
            self.assertEqual([v.version for v in versions], list(range(len(versions), 0, -1)), path)
            for v in versions[:3]:
                self.assertEqual(self.shelf.read(path, version=v.version), known[v.content])


class MergeModelTests(ServiceCase):
    """Merges of two branches, held against a merge written down independently."""

    def test_merges_are_those_of_three_dictionaries(self) -> None:
        rng = random.Random(11)
        for round_number in range(8):
            shelf = self.shelf = self.make_shelf()
            ids = {d: shelf.upload(d).id for d in CONTENTS}
            base = {p: rng.choice(CONTENTS) for p in rng.sample(NAMES, 8)}
            self.put(dict(base), "base")
            shelf.make_branch("other")
            sides = {}
            for branch in ("main", "other"):
                after = dict(base)
                for path in rng.sample(NAMES, 4):
                    if path in after and rng.random() < 0.4:
                        del after[path]
                    else:
                        # contents of one side only, so that no move is found where none was made
                        after[path] = b"%s %d %s" % (branch.encode(), round_number, path.encode())
                sides[branch] = after
                ids |= {d: shelf.upload(d).id for d in after.values()}
                changes = [
                    ChangeRequest(p, ids[after[p]] if p in after else None)
                    for p in base.keys() | after.keys()
                    if base.get(p) != after.get(p)
                ]
                shelf.commit(branch, shelf.branch(branch).head, changes, branch)
            expected, conflicts = self.merged(base, sides["main"], sides["other"])
            with self.subTest(round=round_number):
                self.judge(expected, conflicts, sides)

    def merged(
        self, base: dict[str, bytes], this: dict[str, bytes], other: dict[str, bytes]
    ) -> tuple[dict[str, bytes], set[str]]:
        result, conflicts = {}, set()
        for path in base.keys() | this.keys() | other.keys():
            b, t, o = base.get(path), this.get(path), other.get(path)
            if t != o and t != b and o != b:
                conflicts.add(path)
            kept = t if o == b or t == o else o
            if kept is not None:
                result[path] = kept
        return result, conflicts

    def judge(self, expected: dict[str, bytes], conflicts: set[str], sides: dict[str, dict[str, bytes]]) -> None:
        if conflicts:
            with self.assertRaises(ProblemError) as caught:
                self.shelf.merge("other", "main")
            self.assertEqual({c["path"] for c in caught.exception.problem["conflicts"]}, conflicts)
            self.shelf.merge("other", "main", prefer="target")
            for path in conflicts:
                if path in sides["main"]:
                    expected[path] = sides["main"][path]
                else:
                    expected.pop(path, None)
        else:
            self.shelf.merge("other", "main")
        found = {a.path: self.shelf.read(a.path) for a in self.shelf.artifacts()}
        self.assertEqual(found, expected)

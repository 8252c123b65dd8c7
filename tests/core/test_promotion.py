"""Folder destinations and rehearsals."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path

from everyshelf.core.content.ids import content_id
from everyshelf.core.errors import ConflictError, EveryShelfError, StorageError
from everyshelf.core.promotion.destination import Manifest, Placed
from everyshelf.core.promotion.folder import FolderDestination
from everyshelf.core.promotion.rehearsal import rehearse

CONTENTS = {content_id(data): data for data in (b"one", b"two", b"three")}
ONE, TWO, THREE = (Placed(i, len(d)) for i, d in CONTENTS.items())


class FolderTests(unittest.TestCase):
    """Staged aside, switched at once, read back."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name) / "test"
        self.root.mkdir()
        self.destination = FolderDestination(self.root)

    def stage(self, key: str, manifest: Manifest) -> None:
        def fetch(path: str) -> Iterator[bytes]:
            yield CONTENTS[manifest[path].id]

        self.destination.stage(key, self.destination.present(), manifest, fetch)

    def put(self, key: str, manifest: Manifest) -> None:
        self.stage(key, manifest)
        self.destination.switch(key)
        self.assertEqual(self.destination.differences(key, manifest), [])

    def current(self) -> dict[str, bytes]:
        base = self.root / "now"
        return {str(p.relative_to(base)): p.read_bytes() for p in base.rglob("*") if p.is_file()}

    def test_a_switch_while_somebody_reads(self) -> None:
        """What is listed is one deployment, and a file that moved with it is looked for in the one that runs."""
        asked = self.destination.current

        def switched_after_the_answer() -> str | None:
            key = asked()
            self.destination.current = asked  # type: ignore[method-assign]
            self.destination.switch("b")
            shutil.rmtree(self.root / "deployed" / "a")
            return key

        def read() -> bytes:
            with self.destination.as_file("x.txt") as file:
                return file.read_bytes()

        for look, expected in ((self.destination.present, {"x.txt": TWO}), (read, b"two")):
            self.put("a", {"x.txt": ONE, "y.txt": TWO})
            self.stage("b", {"x.txt": TWO})
            self.destination.current = switched_after_the_answer  # type: ignore[method-assign]
            self.assertEqual(look(), expected)

    def test_consumers_see_nothing_before_the_switch(self) -> None:
        self.put("a", {"x.txt": ONE})
        self.stage("b", {"data/y.txt": TWO})
        self.assertEqual(self.current(), {"x.txt": b"one"})
        self.destination.switch("b")
        self.assertEqual(self.current(), {"data/y.txt": b"two"})

    def test_same_key_twice_does_nothing_twice(self) -> None:
        for _ in range(2):
            self.put("a", {"x.txt": ONE})
        self.assertEqual(self.destination.current(), "a")

    def test_undoing_leaves_the_current_one(self) -> None:
        self.put("a", {"x.txt": ONE})
        self.stage("b", {"x.txt": TWO})
        self.destination.undo("b")
        self.destination.undo("a")
        self.assertEqual(self.current(), {"x.txt": b"one"})
        self.assertFalse((self.root / "deployed" / "b").exists())

    def test_failure_while_staging_leaves_no_trace(self) -> None:
        self.put("a", {"x.txt": ONE})

        def broken(path: str) -> Iterator[bytes]:
            yield b"half"
            raise OSError(28, "No space left on device")

        with self.assertRaises(StorageError):
            self.destination.stage("b", {"x.txt": ONE}, {"x.txt": TWO, "y.txt": THREE}, broken)
        self.assertEqual(self.current(), {"x.txt": b"one"})
        self.assertEqual([p.name for p in (self.root / "deployed").iterdir() if "b" in p.name.split(".")[0]], [])

    def test_the_folder_of_a_spent_deployment_becomes_the_next_one(self) -> None:
        files = {f"d{n % 3}/{n}.txt": ONE for n in range(12)}
        for key in "abcd":
            self.put(key, files | {f"only/{key}.txt": TWO})
        (self.root / "deployed/b/d0/3.txt").chmod(0o644)
        (self.root / "deployed/b/d0/3.txt").unlink()
        (self.root / "deployed/b/d0/3.txt").write_bytes(b"ONE")  # somebody was there
        (self.root / "deployed/b/d1/more.txt").write_bytes(b"more")
        kept = (self.root / "deployed/b/d2/2.txt").stat().st_ino
        before = self.current()
        asked = []

        def fetch(path: str) -> Iterator[bytes]:
            asked.append(path)
            yield CONTENTS[manifest[path].id]

        manifest = files | {"only/e.txt": THREE}
        os.utime(self.root / "deployed/b.json", (1, 1))
        self.destination.stage("e", self.destination.present(), manifest, fetch)
        self.assertEqual(self.current(), before)
        self.destination.switch("e")
        self.assertEqual(self.destination.differences("e", manifest, ["only/e.txt"]), [])
        self.assertEqual(self.current(), dict.fromkeys(files, b"one") | {"only/e.txt": b"three"})
        self.assertEqual(asked, ["only/e.txt"])
        self.assertEqual((self.root / "deployed/e/d2/2.txt").stat().st_ino, kept)
        self.assertFalse((self.root / "deployed/b").exists())
        self.assertTrue((self.root / "deployed/c/only/c.txt").exists(), "the one before is left alone")

    def test_unchanged_files_are_linked_not_copied(self) -> None:
        self.put("a", {"x.txt": ONE, "y.txt": TWO})
        self.put("b", {"x.txt": ONE, "y.txt": THREE})
        versions = self.root / "deployed"
        self.assertEqual((versions / "a/x.txt").stat().st_ino, (versions / "b/x.txt").stat().st_ino)

    def test_edit_made_in_place_is_never_carried_along(self) -> None:
        self.put("a", {"x.txt": ONE, "y.txt": TWO})
        edited = self.root / "now" / "x.txt"
        os.chmod(edited, 0o644)
        edited.write_bytes(b"eno")
        self.assertEqual(self.destination.present()["x.txt"].id, content_id(b"eno"))
        self.put("b", {"x.txt": ONE, "y.txt": TWO})
        self.assertEqual(self.current(), {"x.txt": b"one", "y.txt": b"two"})

    def test_damage_is_read_back_as_difference(self) -> None:
        self.put("a", {"x.txt": ONE, "y.txt": TWO})
        os.unlink(self.root / "now/x.txt")
        (self.root / "now/z.txt").write_bytes(b"new")
        self.assertEqual(self.destination.differences("a", {"x.txt": ONE, "y.txt": TWO}), ["x.txt", "z.txt"])

    def test_foreign_folder_is_refused(self) -> None:
        (self.root / "now").mkdir()
        with self.assertRaises(ConflictError) as caught:
            self.destination.present()
        self.assertEqual(caught.exception.code, "destination.foreign")

    def test_paths_cannot_leave_the_folder(self) -> None:
        with self.assertRaises(EveryShelfError):
            self.stage("a", {"../outside.txt": ONE})
        self.assertFalse((self.root.parent / "outside.txt").exists())


class RehearsalTests(unittest.TestCase):
    """What is there, what would be there, what somebody else did."""

    def test_paths_are_sorted_by_what_happens(self) -> None:
        plan = rehearse({"a": ONE, "b": ONE, "c": ONE}, {"a": ONE, "b": TWO, "d": ONE}, {"a": ONE, "b": ONE, "c": ONE})
        self.assertEqual((plan.added, plan.changed, plan.removed, plan.same), (["d"], ["b"], ["c"], ["a"]))
        self.assertEqual(plan.drift, [])

    def test_drift_says_what_would_be_lost(self) -> None:
        present = {"a": TWO, "c": THREE, "new": ONE}
        plan = rehearse(present, {"a": ONE, "b": ONE, "c": THREE}, {"a": ONE, "b": ONE, "c": ONE})
        self.assertEqual(
            [(d.path, d.where, d.lost) for d in plan.drift],
            [
                ("a", "changed there", True),
                ("b", "removed there", True),
                ("c", "changed there", False),
                ("new", "added there", True),
            ],
        )

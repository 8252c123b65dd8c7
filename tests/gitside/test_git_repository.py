"""Objects of a repository read one by one, and many in turn."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.gitside.folders import differing
from everyshelf.gitside.repository import Repository
from tests.support.git_objects import ObjectFolder
from tests.support.laws import law


class ReadingTests(unittest.TestCase):
    """What is asked for ahead is read in turn; whatever else is asked meanwhile is answered as well."""

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        there = ObjectFolder(Path(folder.name) / "there.git")
        cls.files = [b"%d\n" % n * (n * 37) for n in range(200)]
        cls.ids = [there.put(b"blob", data) for data in cls.files]
        cls.large = there.put(b"blob", b"x" * 3_000_000)
        cls.repository = Repository(there.folder)
        cls.addClassCleanup(cls.repository.close)

    def test_objects_come_in_turn(self) -> None:
        found = [self.repository.read(identity)[1] for identity in self.repository.in_turn(self.ids)]
        self.assertEqual(found, self.files)

    @law(40)
    @given(
        st.lists(st.tuples(st.integers(0, 199), st.sampled_from(["read", "pass over", "read another"])), max_size=90)
    )
    def test_what_is_passed_over_or_asked_out_of_turn_harms_nothing(self, wanted: list[tuple[int, str]]) -> None:
        turns = self.repository.in_turn([self.ids[n] for n, _ in wanted])
        for (number, act), identity in zip(wanted, turns, strict=True):
            if act == "read":
                self.assertEqual(self.repository.read(identity)[1], self.files[number])
            elif act == "read another":
                self.assertEqual(self.repository.read(self.ids[-number])[1], self.files[-number])

    def test_large_ones_are_read_in_pieces_and_passed_over(self) -> None:
        order = [self.large, self.ids[5], self.large, self.ids[6]]
        sizes = []
        for place, identity in enumerate(self.repository.in_turn(order)):
            if place != 2:
                size, pieces = self.repository.read_pieces(identity)
                sizes.append((size, sum(map(len, pieces))))
        expected = [3_000_000, len(self.files[5]), len(self.files[6])]
        self.assertEqual(sizes, [(size, size) for size in expected])

    def test_one_that_is_not_there_is_named_and_the_next_are_read(self) -> None:
        turns = self.repository.in_turn(["ab" * 20, self.ids[7]])
        with self.assertRaisesRegex(MissingError, "no object abababababab"):
            self.repository.read(next(turns))
        self.assertEqual(self.repository.read(next(turns))[1], self.files[7])

    def test_a_reader_that_ends_in_between_is_started_again(self) -> None:
        turns = self.repository.in_turn(self.ids[:3])
        self.assertEqual(self.repository.read(next(turns))[1], self.files[0])
        reader = self.repository._reader
        assert reader is not None
        reader.kill()
        reader.wait()
        self.assertEqual([self.repository.read(identity)[1] for identity in turns], self.files[1:3])

    def test_a_file_for_a_folder_is_named(self) -> None:
        with self.assertRaisesRegex(BrokenError, "is a blob, not a tree"):
            self.repository.load_trees(self.ids[:2])


class FolderTests(unittest.TestCase):
    """Where two trees differ, with far more folders than are asked for at once or remembered."""

    def test_every_file_of_many_folders_is_told_once(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            there = ObjectFolder(Path(folder) / "there.git")
            paths = [b"%03d/%02d/f" % (n % 150, n) for n in range(300)]
            before = there.put_tree(dict.fromkeys(paths, (b"100644", b"old")))
            after = there.put_tree(dict.fromkeys(paths[:-1], (b"100644", b"new")))
            with Repository(there.folder) as repository:
                found = {path: (old is None, new is None) for path, old, new in differing(repository, before, after)}
        self.assertEqual(found, {path: (False, path == paths[-1]) for path in paths})

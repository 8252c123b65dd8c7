"""Objects of a repository read one by one, and many in turn."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.gitside.folders import differing, edited
from everyshelf.gitside.objects import EMPTY_TREE, FILE, GitEntry, object_id
from everyshelf.gitside.program import run_git
from everyshelf.gitside.repository import Repository
from everyshelf.gitside.tree_deltas import MOST_STEPS, delta
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


class RefTests(unittest.TestCase):
    """Names of branches that another program may read as two lines."""

    def test_a_name_with_a_line_separator_is_one_name(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            there = ObjectFolder(Path(folder) / "there.git")
            tree = there.put_tree({b"f": (b"100644", b"data")})
            line = "Line <line@skerry.example> 1700000000 +0000"
            tip = there.put(b"commit", f"tree {tree}\nauthor {line}\ncommitter {line}\n\nFirst\n".encode())
            names = ["refs/heads/odd\u2028main", "refs/heads/next\u0085line"]
            for name in names:
                run_git(there.folder, "update-ref", name, tip)
            with Repository(there.folder) as repository:
                self.assertEqual(repository.refs("refs/heads/"), dict.fromkeys(names, tip))


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


def applied(said: bytes, before: bytes) -> bytes:
    """What a delta makes of the older bytes, read as the format's description says."""
    sizes, at = [], 0
    for _ in range(2):
        size = shift = 0
        while True:
            size |= (said[at] & 0x7F) << shift
            shift, at = shift + 7, at + 1
            if not said[at - 1] & 0x80:
                break
        sizes.append(size)
    after = bytearray()
    while at < len(said):
        told, at = said[at], at + 1
        if not told & 0x80:
            after += said[at : at + told]
            at += told
            continue
        numbers = [0] * 7
        for place in range(7):
            if told >> place & 1:
                numbers[place], at = said[at], at + 1
        start, length = int.from_bytes(numbers[:4], "little"), int.from_bytes(numbers[4:], "little")
        after += before[start : start + (length or 0x10000)]
    assert sizes == [len(before), len(after)]
    return bytes(after)


class TreeDeltaTests(unittest.TestCase):
    """Trees that are kept as their difference to the one they were made of."""

    @law(150)
    @given(
        st.binary(max_size=2_000),
        st.lists(st.tuples(st.integers(0, 3_000), st.integers(0, 30), st.binary(max_size=200)), max_size=6),
    )
    def test_it_makes_the_one_of_the_other(self, before: bytes, edits: list[tuple[int, int, bytes]]) -> None:
        after = bytearray(before * 3)
        for at, gone, new in edits:
            after[at : at + gone] = new
        self.assertEqual(applied(delta(before * 3, bytes(after)), before * 3), bytes(after))

    def test_where_one_thing_is_repeated(self) -> None:
        """What both begin and end with may be the same bytes."""
        for before, after in ((60, 100), (100, 60), (0, 9), (9, 0)):
            with self.subTest(before=before, after=after):
                one, other = b"a" * before, b"a" * after
                self.assertEqual(applied(delta(one, other), one), other)

    def test_of_the_same_length_and_very_long(self) -> None:
        before = bytes(range(256)) * 300
        after = bytearray(before)
        for at in (0, 40_000, 40_003, 70_000, len(before) - 1):
            after[at] ^= 0x55
        said = delta(before, bytes(after))
        self.assertLess(len(said), 60)
        self.assertEqual(applied(said, before), bytes(after))

    def test_versions_of_a_folder_take_little_and_are_sound(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            place = Path(folder, "here.git")
            with Repository.made(place) as here:
                tree, made = EMPTY_TREE, list[tuple[str, bytes]]()
                blobs = [here.put("blob", b"%d" % n) for n in range(9)]
                for turn in range(4 * MOST_STEPS):
                    names = range(400) if not turn else (turn * 7 % 400, 400 + turn // 3)
                    edits = {b"d/f%03d" % n: GitEntry(FILE, blobs[(n + turn) % 9]) for n in names}
                    tree = edited(here, tree, edits)
                    made.append((tree, here.raw_tree(tree)))
                    here.keep_trees()
                    here.put("commit", b"tree %s\nauthor a <a> 0 +0000\ncommitter a <a> 0 +0000\n\nx\n" % tree.encode())
                here.flush()
                run_git(place, "fsck", "--strict", "--full")
                inner = []
                for identity, data in made:
                    self.assertEqual(run_git(place, "cat-file", "tree", identity), data)
                    self.assertEqual(object_id("tree", data), identity)
                    inner.append(data[-20:].hex())
                for identity in inner[::20]:
                    self.assertEqual(object_id("tree", run_git(place, "cat-file", "tree", identity)), identity)
                (pack,) = (place / "objects" / "pack").glob("*.pack")
                said = run_git(place, "verify-pack", "-v", str(pack)).decode().splitlines()
                chains = [int(line.split()[3].rstrip(":")) for line in said if line.startswith("chain length")]
                self.assertEqual(max(chains), MOST_STEPS)
                self.assertLess(pack.stat().st_size, 200_000)  # 200 trees of 15,000 bytes, most of them ids

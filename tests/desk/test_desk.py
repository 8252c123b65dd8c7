"""A desk on its own: states, selection, what it remembers; and with a shelf that answers from memory."""

from __future__ import annotations

import contextlib
import os
import sqlite3
import tempfile
import time
import unittest
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from everyshelf.client import CommitMessage
from everyshelf.core.content.ids import content_id
from everyshelf.desk.desk import Desk, Origin
from everyshelf.desk.errors import DeskError
from everyshelf.desk.states import find_states
from everyshelf.desk.store import Entry, load_entries, load_home, save_entries, trusted_mtime


@dataclass
class MemoryShelf:
    """What a desk asks of a shelf, without a service."""

    files: dict[str, bytes] = field(default_factory=dict)
    contents: dict[str, bytes] = field(default_factory=dict)
    head: str | None = None
    outside: dict[str, str] = field(default_factory=dict)
    uploads: int = 0
    commits: list[Any] = field(default_factory=list)

    def put(self, files: dict[str, bytes | None]) -> None:
        for path, data in files.items():
            if data is None:
                self.files.pop(path)
            else:
                self.files[path] = data
                self.contents[content_id(data)] = data
        self.head = content_id(repr(sorted(self.files.items())).encode())

    def branch(self, name: str) -> Any:
        return SimpleNamespace(name=name, head=self.head)

    def _artifact(self, path: str) -> Any:
        data = self.files[path]
        told = {"version": 1, "kind": "report", "within": "", "in_place": self.outside.get(path, "")}
        return SimpleNamespace(path=path, content=content_id(data), size=len(data), **told)

    def artifacts(self, ref: str | None = None, *, files: bool = False) -> Iterator[Any]:
        yield from (self._artifact(p) for p in sorted(self.files))

    def artifact(self, path: str, ref: str | None = None) -> Any:
        return self._artifact(path)

    def missing(self, ids: Any) -> list[str]:
        return [i for i in ids if i not in self.contents]

    def upload_many(self, sources: list[Path]) -> list[Any]:
        self.uploads += len(sources)
        held = [source.read_bytes() for source in sources]
        self.contents.update({content_id(data): data for data in held})
        return [SimpleNamespace(id=content_id(data), size=len(data)) for data in held]

    def read_many(self, sizes: dict[str, int]) -> Iterator[tuple[str, bytes]]:
        yield from ((identity, self.contents[identity]) for identity in sizes)

    def download_content(self, identity: str, target: Path) -> None:
        target.write_bytes(self.contents[identity])

    def commit(self, branch: str, base: str | None, changes: list[Any], message: CommitMessage, **more: Any) -> Any:
        self.commits.append((base, [(c.path, c.content, c.moved_from) for c in changes], more))
        for change in changes:
            self.files.pop(change.moved_from, None)
        self.put({c.path: self.contents[c.content] if c.content else None for c in changes})
        return SimpleNamespace(commit=self.head, parents=[base] if base else [])


class DeskCase(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.root = Path(folder.name) / "desk"
        self.shelf = MemoryShelf()
        self.shelf.put({"a.txt": b"first", "data/b.csv": b"id,x\n1,2\n", "data/c.csv": b"id\n1\n"})
        self.desk = Desk.make(self.root, Origin("http://nowhere", "s", "main", "main"))
        self.desk.take(self.shelf)  # type: ignore[arg-type]

    def take(self) -> Any:
        return self.desk.take(self.shelf)  # type: ignore[arg-type]

    def commit(self, *names: str, **more: Any) -> Any:
        items = self.desk.select(self.desk.pending(), names)
        return self.desk.commit(self.shelf, items, CommitMessage("a summary"), **more)  # type: ignore[arg-type]

    def states(self) -> dict[str, str]:
        return {i.path: i.state for i in self.desk.states() if i.state != "same"}

    def write(self, path: str, data: bytes) -> Path:
        target = self.root / path
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
        return target

    def settle(self) -> None:
        """Let the time stamps grow old, and be remembered."""
        for path in load_entries(self.root):
            os.utime(self.root / path, (1_700_000_000, 1_700_000_000))
        find_states(self.root)


class StateTests(DeskCase):
    """New, edited, moved, gone, same, blocked."""

    def test_fresh_desk_is_the_same_everywhere(self) -> None:
        self.assertEqual({i.state for i in self.desk.states()}, {"same"})
        self.assertEqual(load_home(self.root).commit, self.shelf.head)

    def test_unchanged_files_are_not_read_once_settled(self) -> None:
        self.settle()
        for path in load_entries(self.root):
            os.chmod(self.root / path, 0o000)
        with contextlib.ExitStack() as stack:
            from unittest import mock

            reading = stack.enter_context(
                mock.patch("everyshelf.desk.states.hash_settled", side_effect=AssertionError("read a file"))
            )
            self.assertEqual({i.state for i in self.desk.states()}, {"same"})
            reading.assert_not_called()

    def test_touched_but_equal_file_is_the_same(self) -> None:
        self.settle()
        os.utime(self.root / "a.txt", (1_600_000_000, 1_600_000_000))
        self.assertEqual(self.states(), {})
        self.assertEqual(load_entries(self.root)["a.txt"].mtime_ns, 1_600_000_000 * 10**9)

    def test_every_change_has_its_state(self) -> None:
        self.write("a.txt", b"second")
        self.write("new.txt", b"new")
        os.rename(self.root / "data/b.csv", self.root / "renamed.csv")
        (self.root / "data/c.csv").unlink()
        self.assertEqual(
            self.states(), {"a.txt": "edited", "new.txt": "new", "renamed.csv": "moved", "data/c.csv": "gone"}
        )
        moved = next(i for i in self.desk.states() if i.state == "moved")
        self.assertEqual(moved.moved_from, "data/b.csv")

    def test_copies_are_new_not_moved(self) -> None:
        self.write("copy 1.csv", b"id,x\n1,2\n")
        self.write("copy 2.csv", b"id,x\n1,2\n")
        (self.root / "data/b.csv").unlink()
        self.assertEqual(self.states(), {"copy 1.csv": "new", "copy 2.csv": "new", "data/b.csv": "gone"})

    def test_file_still_being_written_is_blocked(self) -> None:
        from unittest import mock

        growing = self.write("growing.bin", b"x" * 100)
        real = os.fstat
        stats = iter([real, lambda d: SimpleNamespace(st_size=10**6, st_mtime_ns=1)])
        with mock.patch("everyshelf.desk.states.os.fstat", side_effect=lambda d: next(stats)(d)):
            from everyshelf.desk.states import hash_settled

            content, why = hash_settled(growing)
        self.assertIsNone(content)
        self.assertIn("still being written", why)

    def test_rules_of_the_desk_leave_out_folders_unread(self) -> None:
        self.write("shelf.toml", b'[ignore]\npatterns = ["out/", "*.tmp", "!keep.tmp"]\n')
        for path in ("out/deep/big.bin", "x.tmp", "keep.tmp"):
            self.write(path, b"x")
        self.assertEqual(set(self.states()), {"shelf.toml", "keep.tmp"})

    def test_fresh_time_stamps_prove_nothing(self) -> None:
        stat = (self.root / "a.txt").stat()
        self.assertEqual(trusted_mtime(stat, stat.st_mtime_ns + 10**6), -1)
        self.assertEqual(trusted_mtime(stat, stat.st_mtime_ns + 10**10), stat.st_mtime_ns)


class CommitTests(DeskCase):
    """What is sent, and what is remembered."""

    def test_only_missing_contents_are_sent(self) -> None:
        self.write("same content.txt", b"first")
        self.write("new.txt", b"never seen")
        self.commit()
        self.assertEqual(self.shelf.uploads, 1)
        self.assertEqual(self.states(), {})

    def test_move_is_sent_as_a_move(self) -> None:
        os.rename(self.root / "data/b.csv", self.root / "b.csv")
        self.commit()
        self.assertEqual(self.shelf.commits[-1][1], [("b.csv", content_id(b"id,x\n1,2\n"), "data/b.csv")])
        self.assertEqual(set(load_entries(self.root)), {"a.txt", "b.csv", "data/c.csv"})

    def test_base_is_what_the_desk_came_from(self) -> None:
        before = self.shelf.head
        self.write("a.txt", b"second")
        self.commit()
        self.assertEqual(self.shelf.commits[-1][0], before)
        self.assertEqual(load_home(self.root).commit, self.shelf.head)

    def test_names_are_found_as_people_say_them(self) -> None:
        for path in ("flows/nightly-load.json", "other/nightly-load.json", "flows/tide_table.yaml"):
            self.write(path, path.encode())
        pending = self.desk.pending()
        self.assertEqual([i.path for i in self.desk.select(pending, ["tide table"])], ["flows/tide_table.yaml"])
        self.assertEqual(len(self.desk.select(pending, ["flows"])), 2)
        self.assertEqual(len(self.desk.select(pending, ["flows", "tide table"])), 2)
        for name, code in (("nightly load", "desk.ambiguous"), ("nothing", "desk.unknown")):
            with self.assertRaises(DeskError) as caught:
                self.desk.select(pending, [name])
            self.assertEqual(caught.exception.code, code)

    def found(self) -> list[Any]:
        return [i for i in self.desk.states() if i.state != "same"]

    def test_a_database_whose_changes_are_not_in_the_file_yet_waits(self) -> None:
        file = self.root / "bookings.sqlite"
        with contextlib.closing(sqlite3.connect(file)) as records:
            records.executescript("PRAGMA journal_mode = WAL; CREATE TABLE trips (day TEXT)")
            records.execute("INSERT INTO trips VALUES ('2026-11-25')")
            records.commit()
            (item,) = self.found()
            self.assertEqual((item.path, item.state), ("bookings.sqlite", "blocked"))
            self.assertIn("lie in bookings.sqlite-wal", item.reason)
            with self.assertRaises(DeskError) as caught:
                self.desk.select(self.desk.pending(), ["bookings.sqlite"])
            self.assertEqual(caught.exception.code, "desk.blocked")
            records.execute("PRAGMA wal_checkpoint")  # written back, though the log is there still
            self.assertGreater(file.with_name("bookings.sqlite-wal").stat().st_size, 0)
            self.assertEqual([(i.path, i.state) for i in self.found()], [("bookings.sqlite", "new")])
            records.execute("PRAGMA journal_mode = DELETE")
            records.execute("PRAGMA cache_size = 1")
            records.execute("BEGIN")
            records.executemany("INSERT INTO trips VALUES (?)", [("x" * 900,)] * 400)
            self.assertIn("in the middle of changing it", self.found()[0].reason)
            records.rollback()
        self.assertEqual([(i.path, i.state) for i in self.found()], [("bookings.sqlite", "new")])
        self.write("other-wal", b"of nothing")
        self.assertEqual([i.path for i in self.found()], ["bookings.sqlite", "other-wal"])

    def test_file_that_changes_while_it_is_sent_commits_nothing(self) -> None:
        self.write("new.txt", b"one state")
        items = self.desk.pending()
        self.write("new.txt", b"and another")
        with self.assertRaises(DeskError) as caught:
            self.desk.commit(self.shelf, items, CommitMessage("x"))  # type: ignore[arg-type]
        self.assertEqual(caught.exception.code, "desk.unsettled")
        self.assertEqual(self.shelf.commits, [])

    def test_read_only_desk_commits_nothing(self) -> None:
        other = Desk.make(self.root.parent / "tag", Origin("http://nowhere", "s", None, "tag:one"))
        other.take(self.shelf)  # type: ignore[arg-type]
        (other.root / "a.txt").write_bytes(b"x")
        with self.assertRaises(DeskError) as caught:
            other.commit(self.shelf, other.pending(), "x")  # type: ignore[arg-type]
        self.assertEqual(caught.exception.code, "desk.read_only")


class TakeTests(DeskCase):
    """Newer states come in without costing an edit."""

    def test_what_lies_in_place_stays_there(self) -> None:
        self.shelf.put({"data/trips.csv": b"trip\n1\n"})
        self.shelf.outside = {"data/trips.csv": "/data/trips.csv", "data/c.csv": "s3://skerry-data/c.csv"}
        taken = self.take()
        self.assertEqual((taken.written, taken.removed), ([], ["data/c.csv"]))
        self.assertEqual(taken.in_place, ["data/c.csv", "data/trips.csv"])
        self.assertFalse((self.root / "data" / "trips.csv").exists())
        self.assertEqual(self.states(), {})
        self.write("data/trips.csv", b"a copy of one's own\n")
        self.assertEqual(self.states(), {"data/trips.csv": "new"})
        self.assertEqual(self.take().kept, [])
        self.assertEqual((self.root / "data" / "trips.csv").read_bytes(), b"a copy of one's own\n")

    def test_clean_files_follow_the_shelf(self) -> None:
        self.shelf.put({"a.txt": b"theirs", "data/b.csv": None, "data/deep/new.txt": b"new"})
        taken = self.take()
        self.assertEqual(
            (taken.written, taken.removed, taken.kept), (["a.txt", "data/deep/new.txt"], ["data/b.csv"], [])
        )
        self.assertEqual(self.states(), {})

    def test_edited_files_stay_and_hold_the_base(self) -> None:
        before = self.desk.home.commit
        self.write("a.txt", b"mine")
        self.shelf.put({"a.txt": b"theirs", "data/b.csv": b"theirs"})
        self.assertEqual(self.take().kept, ["a.txt"])
        self.assertEqual((self.root / "a.txt").read_bytes(), b"mine")
        self.assertEqual((self.root / "data/b.csv").read_bytes(), b"theirs")
        self.assertEqual(self.desk.home.commit, before)

    def test_edit_against_removal_stays(self) -> None:
        self.write("a.txt", b"mine")
        self.shelf.put({"a.txt": None})
        self.assertEqual(self.take().kept, ["a.txt"])
        self.assertEqual((self.root / "a.txt").read_bytes(), b"mine")

    def test_same_edit_on_both_sides_is_settled(self) -> None:
        self.write("a.txt", b"both")
        self.shelf.put({"a.txt": b"both"})
        self.assertEqual(self.take().kept, [])
        self.assertEqual(self.states(), {})

    def test_folders_left_empty_vanish(self) -> None:
        self.shelf.put({"data/b.csv": None, "data/c.csv": None})
        self.take()
        self.assertFalse((self.root / "data").exists())

    def test_paths_from_outside_never_leave(self) -> None:
        for path in ("../outside.txt", "/tmp/outside.txt", ".everyshelf/desk.json"):
            self.shelf.files = {path: b"x"}
            self.shelf.contents[content_id(b"x")] = b"x"
            with self.subTest(path=path), self.assertRaises(Exception) as caught:
                self.take()
            self.assertEqual(getattr(caught.exception, "code", ""), "path.invalid")
        self.assertFalse((self.root.parent / "outside.txt").exists())

    def test_taking_that_breaks_off_can_be_repeated(self) -> None:
        self.shelf.put({f"n{n}.txt": b"%d" % n for n in range(30)})
        broken = dict(self.shelf.contents)
        del self.shelf.contents[content_id(b"17")]
        with self.assertRaises(KeyError):
            self.take()
        self.assertEqual([p for p in self.root.rglob("*.part")], [])
        self.shelf.contents = broken
        self.take()
        self.assertEqual(self.states(), {})


class DiscardTests(DeskCase):
    """Back to what it came from, and nothing lost."""

    def test_edits_and_new_files_are_put_aside(self) -> None:
        self.write("a.txt", b"mine")
        self.write("new.txt", b"new")
        (self.root / "data/b.csv").unlink()
        self.desk.discard(self.shelf, self.desk.pending())  # type: ignore[arg-type]
        self.assertEqual(self.states(), {})
        aside = {p.name: p.read_bytes() for p in (self.root / ".everyshelf/discarded").rglob("*") if p.is_file()}
        self.assertEqual(aside, {"a.txt": b"mine", "new.txt": b"new"})

    def test_moves_go_back(self) -> None:
        os.rename(self.root / "a.txt", self.root / "b.txt")
        self.desk.discard(self.shelf, self.desk.pending())  # type: ignore[arg-type]
        self.assertTrue((self.root / "a.txt").exists())
        self.assertFalse((self.root / "b.txt").exists())


class FindingTests(DeskCase):
    """Where a desk is, and what is none."""

    def test_desk_is_found_from_below(self) -> None:
        self.assertEqual(Desk.find(self.root / "data").root, self.root)

    def test_what_is_no_desk_says_so(self) -> None:
        with self.assertRaises(DeskError) as caught:
            Desk.find(self.root.parent)
        self.assertEqual(caught.exception.code, "desk.missing")
        with self.assertRaises(DeskError) as caught:
            Desk.make(self.root, Origin("x", "s", "main", "main"))
        self.assertEqual(caught.exception.code, "desk.exists")

    def test_damaged_desk_is_named(self) -> None:
        (self.root / ".everyshelf/desk.json").write_text("{")
        with self.assertRaises(DeskError) as caught:
            Desk.find(self.root)
        self.assertEqual(caught.exception.code, "desk.broken")

    def test_entries_are_written_in_one_step(self) -> None:
        entries = {f"f{n}": Entry("0" * 64, n, n) for n in range(2000)}
        start = time.monotonic()
        save_entries(self.root, entries)
        self.assertEqual(load_entries(self.root), entries)
        self.assertLess(time.monotonic() - start, 5)
        self.assertEqual([p.name for p in (self.root / ".everyshelf").iterdir() if p.name.startswith(".")], [])

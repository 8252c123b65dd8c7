"""Processes of this machine that work out parts."""

from __future__ import annotations

import os
import tempfile
import unittest
from pathlib import Path

from everyshelf.cluster.processes import opened
from everyshelf.core.spreading import UnreachedError
from tests.support import parts
from tests.support.waiting import until


def nothing(_: int) -> None:
    """Nobody listens."""


class ProcessesTests(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = self.enterContext(tempfile.TemporaryDirectory())

    def test_parts_are_worked_out_by_several_others(self) -> None:
        with opened(2) as spread:
            pending = [spread.submit(parts.until_let, self.folder, number, nothing) for number in range(2)]
            until(lambda: len(list(Path(self.folder).glob("begun-*"))) == 2, "both did not begin at once")
            Path(self.folder, "go").touch()
            self.assertEqual(sorted(spread.as_done(pending)), [0, 1])
            process, squares = next(spread.as_done([spread.submit(parts.squares, [3], nothing)]))
        self.assertNotEqual(process, os.getpid())
        self.assertEqual(squares, [9])

    def test_what_earlier_parts_gave_may_be_given(self) -> None:
        with opened(2) as spread:
            doubled = [spread.submit(parts.doubled, number) for number in range(5)]
            self.assertEqual(list(spread.as_done([spread.submit(parts.total, doubled)])), [20])

    def test_files_are_read_where_they_lie(self) -> None:
        path = Path(self.folder, "a")
        path.write_bytes(b"1")
        with opened(1) as spread:
            self.assertEqual(spread.hand_over(path).local([(0, 1)]), path.resolve())

    def test_a_process_that_is_killed_is_told_as_such(self) -> None:
        with self.assertRaises(UnreachedError), opened(2) as spread:
            list(spread.as_done([spread.submit(parts.killed_once, self.folder, n, nothing) for n in range(4)]))

    def test_a_mistake_in_the_work_is_raised_as_it_is(self) -> None:
        with self.assertRaisesRegex(ValueError, "a mistake"), opened(2) as spread:
            list(spread.as_done([spread.submit(parts.failing)]))

    def test_whoever_waits_may_end_the_work_and_the_processes_with_it(self) -> None:
        process = 0

        def tick() -> None:
            if Path(self.folder, "begun-0").exists():
                raise KeyError("ended")

        with self.assertRaises(KeyError), opened(1) as spread:
            process, _ = next(spread.as_done([spread.submit(parts.squares, [1], nothing)]))
            list(spread.as_done([spread.submit(parts.until_let, self.folder, 0, nothing)], tick))
        self.assertFalse(Path("/proc", str(process)).exists())

"""What was not read is not judged: every way in which reading can end early gives no effect, says why, and is met by
``--fail-on``; nothing of it is told as harmless."""

from __future__ import annotations

import json
import os
import signal
import tempfile
import threading
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import click

from everyshelf.cli.errors import FailOnMet
from everyshelf.cli.fail_on import check_fail_on
from everyshelf.core.answers.comparisons import ComparisonAnswer
from everyshelf.core.answers.states import RefAnswer, StateComparison
from everyshelf.core.compare.sentences import effect_of, effects_phrase, headline, rank_of, states_sentence
from everyshelf.core.errors import LimitError
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.reading.worker import Worker
from everyshelf.core.report.document import as_artifact
from tests.support.factories import as_answer, compared

BIG = b"[" + b",".join(b'{"id": %d, "v": [%d]}' % (n, n) for n in range(300_000)) + b"]"


class NotJudgedCase(unittest.TestCase):
    """Two files and a reading process with limits."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def files(self, old: bytes, new: bytes, name: str = "a.json") -> tuple[FileAt, FileAt]:
        paths = self.folder / f"old-{name}", self.folder / f"new-{name}"
        for path, data in zip(paths, (old, new), strict=True):
            path.write_bytes(data)
        return FileAt(name, str(paths[0])), FileAt(name, str(paths[1]))

    def worker(self, **limits: Any) -> Worker:
        made = Worker(**limits)
        self.addCleanup(made.close)
        return made

    def check(self, found: ComparisonAnswer) -> None:
        """Nothing is said of effects, anywhere."""
        self.assertFalse(found.judged)
        self.assertFalse(found.equal)
        self.assertEqual(found.effects, {"breaks": 0, "alters": 0, "cosmetic": 0})
        self.assertTrue(all(finding.effect is None for finding in found.findings))
        self.assertIsNone(effect_of(found))
        self.assertTrue(found.note)
        said = f"{headline(found)}; {effects_phrase(found.effects, judged=found.judged)}"
        self.assertNotIn("none break", said)
        self.assertNotIn("no change", said)
        for level in ("breaks", "alters", "any"):
            with self.assertRaises(FailOnMet):
                check_fail_on(found, level)


class LimitTests(NotJudgedCase):
    """Every limit forced."""

    def test_time(self) -> None:
        pair = self.files(BIG, BIG.replace(b"[7]", b"[8]"))
        found = self.worker(deadline_seconds=0.2).compare(*pair)
        self.assertIn("seconds of processor time", found.note)
        self.check(found)

    def test_time_that_can_go_on_elsewhere_is_handed_over(self) -> None:
        pair = self.files(BIG, BIG.replace(b"[7]", b"[8]"))
        worker = self.worker()
        with self.assertRaises(LimitError) as caught:
            worker.compare(*pair, seconds=0.2, patient=False)
        self.assertEqual(caught.exception.code, "limit.time")
        found = worker.compare(*pair, seconds=600)
        self.assertEqual((found.judged, found.effects["alters"]), (True, 1))

    def test_the_clock_is_no_limit(self) -> None:
        """A process that is kept from working for longer than its time answers as ever."""
        pair = self.files(b'{"a": 1}', b'{"a": 2}')
        worker = self.worker()
        worker.compare(*pair)  # what the first comparison loads counts, too
        assert worker._process is not None
        pid = worker._process.pid
        os.kill(pid, signal.SIGSTOP)
        timer = threading.Timer(1.2, os.kill, (pid, signal.SIGCONT))
        timer.start()
        self.addCleanup(timer.cancel)
        found = worker.compare(*pair, seconds=0.5)
        self.assertEqual((found.judged, found.effects["alters"]), (True, 1))

    def test_memory(self) -> None:
        pair = self.files(BIG, BIG.replace(b"[7]", b"[8]"))
        found = self.worker(memory_bytes=90 * 1024 * 1024).compare(*pair)
        self.assertIn("memory", found.note)
        self.check(found)

    def test_a_process_that_crashes_is_not_called_short_of_memory(self) -> None:
        pair = self.files(b'{"a": 1}', b'{"a": 2}')
        worker = self.worker()
        with mock.patch("everyshelf.core.reading.worker.sys.executable", "/bin/false"):
            found = worker.compare(*pair)
        self.assertIn("the reading process ended with status 1", found.note)
        self.check(found)

    def test_nothing_is_left_of_a_process_that_was_killed(self) -> None:
        scratch = self.folder / "scratch"
        scratch.mkdir()
        pair = self.files(b"id,n\n" + b"".join(b"%d,%d\n" % (n, n) for n in range(90_000)), b"id,n\n1,2\n", "t.csv")
        worker = self.worker(scratch=scratch)
        worker.compare(*pair)
        self.assertNotEqual(list(scratch.iterdir()), [])
        assert worker._process is not None
        worker._process.kill()
        worker._process.wait()
        worker.close()
        self.assertEqual(list(scratch.iterdir()), [])


class FailureTests(NotJudgedCase):
    """What cannot be read at all."""

    def compared(self, before: Any, after: Any, name: str) -> ComparisonAnswer:
        return as_answer(compared(before, after, name))

    def test_no_reader_knows_it(self) -> None:
        self.check(self.compared(b"\x00\x01\x02", b"\x00\x01\x03", "a.bin"))

    def test_damage(self) -> None:
        self.check(self.compared(b'{"a": 1}', b'{"a": ', "a.json"))

    def test_a_reader_with_a_mistake_in_it(self) -> None:
        notebook = {"cells": [{"cell_type": "code", "source": "x = 1"}], "metadata": {}, "nbformat": 4}
        after = json.loads(json.dumps(notebook).replace("x = 1", "x = 2"))
        mistaken = mock.Mock(side_effect=AttributeError("no cell"))
        with mock.patch.dict("everyshelf.core.compare.dispatch._BY_PARTS", {"notebook": mistaken}):
            found = self.compared(notebook, after, "a.ipynb")
        self.assertIn("its reader failed (AttributeError: no cell)", found.note)
        self.check(found)

    def test_an_archive_with_one_member_that_nobody_reads(self) -> None:
        from tests.core.test_documents import zipped

        old = zipped([("a.json", b'{"n": 1}'), ("b.bin", b"\x00\x01")])
        new = zipped([("a.json", b'{"n": 2}'), ("b.bin", b"\x00\x02")])
        found = self.compared(old, new, "a.zip")
        self.assertEqual((found.judged, found.effects["alters"]), (False, 1))
        self.assertIsNone(effect_of(found))
        self.assertNotIn("none break", effects_phrase(found.effects, judged=False))

    def test_several_artifacts_of_which_one_was_not_read(self) -> None:
        a, b, c = (as_artifact(self.compared({"a": 1}, {"a": 2}, f"{name}.json"), name) for name in "abc")
        b.effects, b.effect, b.judged = {}, None, False
        c.effects, c.effect = {"cosmetic": 1}, "cosmetic"
        rows = [a, b, c]
        said = states_sentence(rows)
        self.assertIn("1 artifact could not be judged", said)
        self.assertNotIn("none break", said)
        self.assertEqual([row.path for row in sorted(rows, key=rank_of)], ["b", "a", "c"])
        with self.assertRaises(click.ClickException) as caught:
            check_fail_on(
                StateComparison(
                    from_=RefAnswer(ref="main"),
                    to=RefAnswer(ref="desk"),
                    artifacts=rows,
                    counts={},
                    effects={"breaks": 0, "alters": 1, "cosmetic": 1},
                    sentence=said,
                    pending=0,
                    same=None,
                    job=None,
                    parted=None,
                ),
                "breaks",
            )
        self.assertIn("b", caught.exception.message)

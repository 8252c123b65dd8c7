"""Long work shared out among processes: whatever becomes of those, each part is done once, and nothing is left out."""

from __future__ import annotations

import contextlib
import dataclasses
import os
import secrets
import shutil
import signal
import tempfile
import threading
import unittest
from pathlib import Path
from typing import Any
from unittest import mock

import structlog
from structlog.testing import capture_logs

from everyshelf.client import ChangeRequest
from everyshelf.core.content.ids import content_id
from everyshelf.core.content.records import HEAD_BYTES
from everyshelf.core.content.store import ContentStore
from everyshelf.service.base import spreading
from everyshelf.service.base.config import get_config
from everyshelf.service.base.spreading import Needs, spread_out
from tests.support import parts
from tests.support.dask_cluster import DaskCluster
from tests.support.service import Service
from tests.support.waiting import until


class EndedError(Exception):
    """Whoever asked wants no more of it."""


class SpreadOutTests(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = self.enterContext(tempfile.TemporaryDirectory())
        self.said: list[int] = []
        structlog.reset_defaults()

    def use(self, processes: int, dask: str = "") -> None:
        config = dataclasses.replace(get_config(), data=Path(self.folder), processes=processes, dask=dask)
        self.enterContext(mock.patch.object(spreading, "get_config", lambda: config))

    def out(self, work: Any, given: list[tuple[Any, ...]], needs: Needs = "nothing") -> dict[int, Any]:
        """What each part gave, each once."""
        found: dict[int, Any] = {}
        with capture_logs() as self.logs:
            for place, one in spread_out(work, given, self.said.append, needs=needs):
                self.assertNotIn(place, found)
                found[place] = one
        self.assertEqual(sorted(found), list(range(len(given))))
        self.assertEqual(list(Path(self.folder, "scratch").iterdir()), [], "a tally stays")
        return found

    @property
    def warned(self) -> list[str]:
        return [entry["why"] for entry in self.logs if entry["log_level"] == "warning"]

    @property
    def among(self) -> list[str]:
        return [entry["among"] for entry in self.logs if "among" in entry]

    def test_by_processes_of_this_machine(self) -> None:
        self.use(2)
        found = self.out(parts.squares, [([n, n + 1],) for n in range(20)])
        self.assertEqual([found[n][1] for n in range(20)], [[n * n, (n + 1) ** 2] for n in range(20)])
        self.assertNotIn(os.getpid(), {process for process, _ in found.values()})
        self.assertEqual(self.warned, [])

    def test_a_single_part_or_processor_is_not_worth_it(self) -> None:
        self.use(2)
        self.assertEqual(self.out(parts.squares, [([3],)]), {0: (os.getpid(), [9])})
        self.use(1)
        self.assertEqual({process for process, _ in self.out(parts.squares, [([1],), ([2],)]).values()}, {os.getpid()})
        self.assertEqual(self.out(parts.squares, []), {})

    def test_what_all_say_together_is_told_and_may_end_the_work(self) -> None:
        self.use(2)

        def tick(said: int) -> None:
            if said == 7:
                raise EndedError

        given = [(self.folder, number) for number in (3, 4, 100)]
        with self.assertRaises(EndedError):
            list(spread_out(parts.until_let, given, tick))
        self.assertEqual(list(Path(self.folder, "scratch").iterdir()), [])

    def test_a_process_that_is_killed_leaves_nothing_out(self) -> None:
        self.use(2)
        found = self.out(parts.killed_once, [(self.folder, number) for number in range(8)])
        self.assertEqual(found, {number: number for number in range(8)})
        self.assertEqual(len(self.warned), 1)

    def test_a_part_that_fails_elsewhere_is_done_here(self) -> None:
        self.use(2)
        found = self.out(parts.only_by, [(os.getpid(), number) for number in range(5)])
        self.assertEqual(found, {number: number for number in range(5)})
        self.assertIn("is not for this process", self.warned[0])

    def test_a_scheduler_that_goes_down_meanwhile_leaves_nothing_out(self) -> None:
        cluster = DaskCluster()
        self.addCleanup(cluster.close)
        self.use(2, cluster.address)

        def kill() -> None:
            until(lambda: list(Path(self.folder).glob("begun-*")), "nothing began")
            cluster.close()
            Path(self.folder, "go").touch()

        thread = threading.Thread(target=kill)
        thread.start()
        self.addCleanup(thread.join)
        found = self.out(parts.until_let, [(self.folder, number) for number in range(4)])
        self.assertEqual(found, {number: number for number in range(4)})

    def test_on_a_full_disk_this_process_does_it(self) -> None:
        self.use(2)
        with mock.patch.object(Path, "write_bytes", side_effect=OSError(28, "No space left on device")):
            found = self.out(parts.squares, [([n],) for n in range(4)])
        self.assertEqual(found, {n: (os.getpid(), [n * n]) for n in range(4)})

    def test_a_mistake_is_raised_as_it_is(self) -> None:
        self.use(2)
        with self.assertRaisesRegex(ValueError, "is not for this process"):
            list(spread_out(parts.only_by, [(0, 1), (0, 2)], self.said.append))

    def test_on_a_cluster_and_by_others_where_it_cannot(self) -> None:
        cluster = DaskCluster()
        self.addCleanup(cluster.close)
        self.use(2, cluster.address)
        found = self.out(parts.squares, [([n],) for n in range(20)], "the data folder")
        self.assertNotIn(os.getpid(), {process for process, _ in found.values()})
        self.assertEqual((self.among, self.warned), (["DaskSpread"], []))
        self.out(parts.squares, [([n],) for n in range(4)], "this machine")
        self.assertEqual((self.among, self.warned), (["ProcessSpread"], []))
        # Another folder at the same path, as a machine without this disk has it:
        with (
            mock.patch.object(secrets, "token_bytes", lambda count: bytes(count)),
            mock.patch.object(spreading._Tally, "__enter__", _written_by_another),
        ):
            found = self.out(parts.squares, [([n],) for n in range(4)], "the data folder")
        self.assertEqual({process for process, _ in found.values()}, {os.getpid()})
        self.assertEqual(self.among, ["DaskSpread", "ProcessSpread"])
        self.assertIn("of another installation", self.warned[0])
        cluster.close()
        with mock.patch("everyshelf.cluster.dask._SECONDS", 1):
            found = self.out(parts.squares, [([n],) for n in range(4)])
        self.assertEqual([found[n][1] for n in range(4)], [[0], [1], [4], [9]])
        self.assertIn("does not answer", self.warned[0])


def _written_by_another(tally: spreading._Tally) -> spreading._Tally:
    tally._file.write_bytes(b"another machine." + bytes(64))
    tally.is_there = True
    return tally


class VerifyTests(unittest.TestCase):
    """``verify`` of many contents: what is damaged is named, whoever found it."""

    @classmethod
    def setUpClass(cls) -> None:
        folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory(prefix="es-many-")))
        cls.kept = folder / "data"
        cls.kept.mkdir()
        service = Service(cls.kept)
        cls.addClassCleanup(service.stop)
        client = service.client()
        shelf = client.shelf(client.make_shelf("Many").key)
        files = {f"notes/{n % 40}/{n}.txt": f"note {n}\n".encode() * 40 for n in range(2_400)}
        for number, content in enumerate(files.values()):
            (folder / f"{number}.txt").write_bytes(content)
        stored = shelf.upload_many(folder / f"{number}.txt" for number in range(len(files)))
        changes = [ChangeRequest(path, content.id) for path, content in zip(files, stored, strict=True)]
        shelf.commit("main", None, changes, "Notes")
        cls.key = shelf.key
        service.stop()
        for content in (files["notes/7/7.txt"], files["notes/31/2391.txt"]):
            cls.damage(content)

    @classmethod
    def damage(cls, content: bytes) -> None:
        """Another bit in the stored bytes of a content."""
        store = ContentStore(cls.kept / "segments")
        where = store.segments.find(bytes.fromhex(content_id(content)))
        assert where is not None
        with (cls.kept / "segments" / where.segment).open("r+b") as file:
            file.seek(where.offset + HEAD_BYTES + 3)
            old = file.read(1)
            file.seek(-1, os.SEEK_CUR)
            file.write(bytes([old[0] ^ 1]))
        store.close()

    def serve(self, **settings: str) -> Service:
        data = Path(self.enterContext(tempfile.TemporaryDirectory(prefix="es-many-")), "data")
        shutil.copytree(self.kept, data)
        shutil.copy(self.kept.with_name("data.key"), data.with_name("data.key"))
        service = Service(data, settings={"EVERYSHELF_LOG": "INFO", **settings})
        self.addCleanup(service.stop)
        return service

    def verified(self, service: Service) -> None:
        """What is damaged is named once."""
        shelf = service.client().shelf(self.key)
        result = shelf.wait(shelf.verify()).result or {}
        self.assertEqual((result["contents"] >= 2_400, result["in_place"]), (True, 0))
        text = "\n".join(result["problems"])
        for name in ("notes/7/7.txt version 1", "notes/31/2391.txt version 1"):
            self.assertEqual(text.count(name), 1, text)

    def test_by_processes_of_this_machine_and_without_one_that_is_killed(self) -> None:
        mark = secrets.token_hex(8)
        service = self.serve(EVERYSHELF_PROCESSES="2", EVERYSHELF_MARK=mark)
        self.verified(service)
        self.assertIn("ProcessSpread", service.log())
        self.assertNotIn("without other processes", service.log())
        stop = threading.Event()

        def kill_each() -> None:
            while not stop.wait(0.02):
                for line in Path("/proc").glob("[0-9]*/cmdline"):
                    if b"LokyProcess" in _read(line) and mark in _environment(line.parent):
                        with contextlib.suppress(ProcessLookupError):
                            os.kill(int(line.parent.name), signal.SIGKILL)

        thread = threading.Thread(target=kill_each)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(stop.set)
        while "without other processes" not in service.log():  # on a busy machine all may be done before the first kill
            self.verified(service)

    def test_on_a_cluster(self) -> None:
        cluster = DaskCluster()
        self.addCleanup(cluster.close)
        service = self.serve(EVERYSHELF_DASK=cluster.address)
        self.verified(service)
        self.assertIn("DaskSpread", service.log())
        self.assertNotIn("without other processes", service.log())


def _read(path: Path) -> bytes:
    try:
        return path.read_bytes()
    except OSError:
        return b""


def _environment(process: Path) -> str:
    return _read(process / "environ").decode(errors="replace")

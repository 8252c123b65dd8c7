"""Reading processes, lanes and jobs are given out in turns of people."""

from __future__ import annotations

import itertools
import os
import subprocess
import sys
import tempfile
import threading
import unittest
from pathlib import Path

from everyshelf.core.errors import BusyError
from everyshelf.core.tables.engine import Engine
from everyshelf.core.tables.options import spill_budget
from everyshelf.service.base.fair import FairPool, Spares, work_for

_LANES = """
import sys, time
from everyshelf.core.errors import BusyError
from everyshelf.service.base.lanes import lane
def tried(person):
    try:
        with lane("push", person, most=2, each=1, seconds=0.2):
            return "in"
    except BusyError as error:
        return error.code
with lane("push", "ines", most=2, each=1):
    print(tried("ines"), tried("tobias"))
    with lane("push", "tobias", most=2, each=1):
        print(tried("maren"))
print(tried("maren"))
"""


class PoolTests(unittest.TestCase):
    def test_whoever_asks_for_many_does_not_keep_the_others_waiting(self) -> None:
        pool: FairPool[str] = FairPool(["only"])
        served: list[str] = []
        waiting = threading.Semaphore(0)
        threads = []

        def ask(person: str) -> None:
            work_for(person)
            waiting.release()
            with pool.one():
                served.append(person)

        with pool.one():
            for person in ("ines", "ines", "ines", "tobias", "maren"):
                before = sum(len(tickets) for tickets in pool._waiting.values())
                threads.append(threading.Thread(target=ask, args=(person,)))
                threads[-1].start()
                waiting.acquire()
                while sum(len(tickets) for tickets in pool._waiting.values()) == before:
                    pass
        for thread in threads:
            thread.join()
        self.assertEqual(served[:3], ["ines", "tobias", "maren"])
        self.assertEqual(served[3:], ["ines", "ines"])

    def test_a_wait_has_an_end(self) -> None:
        pool: FairPool[str] = FairPool(["only"], 0.05)
        with pool.one():
            with self.assertRaises(BusyError) as caught, pool.one():
                pass
            self.assertEqual(caught.exception.code, "service.busy")
        with pool.one() as thing:
            self.assertEqual(thing, "only")

    def test_others_get_a_spare_and_whoever_holds_what_there_is_does_not(self) -> None:
        made, closed = itertools.count(1), threading.Event()
        spares: Spares[str] = Spares(lambda: f"spare {next(made)}", lambda thing: closed.set(), 1, 0.01, 0.05)
        pool: FairPool[str] = FairPool(["own"], 0.2, spares)
        work_for("mallory")
        with pool.one() as first:
            with self.assertRaises(BusyError), pool.one():
                self.fail("a second one for the person who holds the first")
            work_for("ines")
            with pool.one() as second:
                self.assertEqual((first, second), ("own", "spare 1"))
                work_for("maren")
                with self.assertRaises(BusyError), pool.one():
                    self.fail("more spares than there may be")
                work_for("ines")
            work_for("mallory")
        with pool.one() as thing:
            self.assertEqual(thing, "own", "a spare is left alone, so that it can go")
        self.assertTrue(closed.wait(60))
        work_for("ines")
        with pool.one(), self.assertRaises(BusyError):
            work_for("ines")
            with pool.one():
                self.fail("it is closed")
        work_for("")

    def test_lanes_hold_across_processes_for_each_and_in_all(self) -> None:
        with tempfile.TemporaryDirectory() as data:
            done = subprocess.run(
                [sys.executable, "-c", _LANES],
                env={**os.environ, "EVERYSHELF_DATA": data},
                check=True,
                capture_output=True,
                text=True,
            )
        self.assertEqual(done.stdout.split(), ["service.busy", "in", "service.busy", "in"])


class SpillTests(unittest.TestCase):
    def test_a_query_spills_no_more_than_its_share(self) -> None:
        folder = Path(tempfile.mkdtemp(prefix="es-spill-"))
        self.addCleanup(subprocess.run, ["rm", "-rf", str(folder)], check=True)
        free = os.statvfs(folder)
        self.assertLess(spill_budget(folder), free.f_bavail * free.f_frsize / 3)
        with Engine(memory_bytes=64 << 20, folder=folder) as engine:
            (said,) = engine.row("SELECT current_setting('max_temp_directory_size')")
            self.assertRegex(str(said), r"(GiB|MiB|KiB)")
            engine.run("SET max_temp_directory_size = '8MB'")
            with self.assertRaises(MemoryError):
                engine.rows(
                    "SELECT DISTINCT hash(range), range FROM range(30000000) ORDER BY 1 LIMIT 3 OFFSET 20000000"
                )


if __name__ == "__main__":
    unittest.main()

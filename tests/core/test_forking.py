"""Reading processes that are forked: they answer as those that are programs, and end with whoever wants them."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from unittest.mock import patch

from everyshelf.core.errors import LimitError
from everyshelf.core.reading.forking import ForkServer, Reading
from everyshelf.core.reading.messages import FileAt
from everyshelf.core.reading.worker import Worker
from tests.support.waiting import until

_OTHER_PROGRAM = """
import os, sys, time
from everyshelf.core.reading.forking import ForkServer
from everyshelf.core.reading.worker import Worker
server = ForkServer()
launched = server.launch()
workers = [Worker(fork_server=server) for _ in range(2)]
for worker in workers:
    worker.recognise([("ready", b"", 0)])
if sys.argv[1] == "fork":
    if os.fork():  # the one that forked goes on; the other one has a process of its own, and dies
        print(launched.pid, workers[0].pid, flush=True)
    else:
        own = Worker(fork_server=server)
        own.recognise([("ready", b"", 0)])
        print(own.pid, flush=True)
        os._exit(0)
else:
    print(launched.pid, *(worker.pid for worker in workers), flush=True)
time.sleep(600)
"""


def is_gone(pid: int) -> bool:
    """Whether a process has ended; nobody may have taken note of it yet."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] == "Z"
    except OSError:
        return True


class ForkingTests(unittest.TestCase):
    """One process that forks, and workers of it."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.server = ForkServer()
        cls.launched = cls.server.launch()
        cls.addClassCleanup(lambda: (cls.launched.kill(), cls.launched.wait()))

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        for name, fare in (("before.csv", 4), ("after.csv", 5)):
            (self.folder / name).write_bytes(b"zone,fare\nZ1,%d\n" % fare)

    def worker(self, **settings: int) -> Worker:
        made = Worker(fork_server=self.server, **settings)
        self.addCleanup(made.close)
        return made

    def compared(self, worker: Worker) -> int:
        before, after = (FileAt("fares.csv", str(self.folder / f"{side}.csv")) for side in ("before", "after"))
        return len(worker.compare(before, after).findings)

    def test_it_answers_with_its_own_limits_and_nothing_of_others(self) -> None:
        worker, other = self.worker(nice=5), self.worker()
        self.assertEqual((self.compared(worker), self.compared(other)), (1, 1))
        assert worker.pid is not None
        assert other.pid is not None
        self.assertEqual(os.getpriority(os.PRIO_PROCESS, worker.pid), os.getpriority(os.PRIO_PROCESS, 0) + 5)
        self.assertEqual(os.getpriority(os.PRIO_PROCESS, other.pid), os.getpriority(os.PRIO_PROCESS, 0))
        opened = {os.readlink(path) for path in Path(f"/proc/{worker.pid}/fd").iterdir()}
        self.assertEqual([name for name in opened if name.startswith("socket:")], [])
        limits = Path(f"/proc/{worker.pid}/limits").read_text()
        self.assertRegex(limits, r"Max data size +\d+ ")
        self.assertRegex(limits, r"Max core file size +0 ")

    def test_the_process_that_forks_has_one_thread(self) -> None:
        self.worker().recognise([("ready", b"", 0)])
        self.assertEqual(len(list(Path(f"/proc/{self.launched.pid}/task").iterdir())), 1)

    def test_one_that_was_killed_is_forked_again_and_says_how_it_ended(self) -> None:
        worker = self.worker()
        for number in (signal.SIGKILL, signal.SIGSEGV):
            self.assertEqual(self.compared(worker), 1)
            process = worker._process
            assert isinstance(process, Reading)
            self.assertIsNone(process.poll())
            os.kill(process.pid, number)
            self.assertEqual(process.wait(60), -number)
        self.assertEqual(self.compared(worker), 1)

    def test_what_takes_too_much_ends_and_the_next_goes_on(self) -> None:
        worker = self.worker(memory_bytes=20 * 1024 * 1024)
        with self.assertRaises(LimitError) as caught:
            worker.query("SELECT list(range) FROM range(100000000)", {}, {}, 10)
        self.assertIn(caught.exception.code, ("limit.memory", "query.failed"))
        self.assertEqual(len(worker.recognise([("a.json", b"{}", 2)])), 1)

    def test_one_that_holds_much_and_is_not_asked_is_replaced(self) -> None:
        worker = self.worker()
        worker.rest()  # there is none
        self.compared(worker)
        first = worker.pid
        worker.rest()
        self.assertEqual(worker.pid, first)
        with (
            patch("everyshelf.core.reading.worker._REST_SECONDS", 0.0),
            patch("everyshelf.core.reading.worker.RESTED_BYTES", 0),
        ):
            worker.rest()
            second = worker.pid
            self.assertNotEqual(second, first)
            worker.rest()  # a new one holds nothing yet
            self.assertEqual(worker.pid, second)
        self.assertEqual(self.compared(worker), 1)

    def test_a_worker_that_is_closed_leaves_no_process(self) -> None:
        worker = Worker(fork_server=self.server)
        self.compared(worker)
        pid = worker.pid
        assert pid is not None
        worker.close()
        until(lambda: is_gone(pid), "it ends")

    def test_the_process_that_forks_is_killed_and_started_again(self) -> None:
        server = ForkServer()
        launched = server.launch()
        worker = Worker(fork_server=server)
        self.addCleanup(worker.close)
        self.compared(worker)
        pid = worker.pid
        assert pid is not None
        launched.kill()
        launched.wait()
        until(lambda: is_gone(pid), "its reading process ends with it")
        waiting = Worker(fork_server=server)
        self.addCleanup(waiting.close)
        waiting.start()  # asked for while nobody is there
        again = server.launch()
        self.addCleanup(lambda: (again.kill(), again.wait()))
        self.assertEqual((self.compared(waiting), self.compared(worker)), (1, 1))

    def started(self, way: str) -> tuple[subprocess.Popen[str], list[int]]:
        process = subprocess.Popen([sys.executable, "-c", _OTHER_PROGRAM, way], stdout=subprocess.PIPE, text=True)
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        assert process.stdout is not None
        self.addCleanup(process.stdout.close)
        lines = [process.stdout.readline() for _ in range(2 if way == "fork" else 1)]
        return process, sorted(int(word) for line in lines for word in line.split())

    def test_all_end_with_the_program_that_was_killed(self) -> None:
        process, pids = self.started("alone")
        self.assertEqual(len(pids), 3)
        process.kill()
        process.wait()
        for pid in pids:
            until(lambda pid=pid: is_gone(pid), f"{pid} ends")

    def test_a_process_ends_with_the_fork_that_wanted_it_and_no_other_does(self) -> None:
        process, pids = self.started("fork")
        self.assertEqual(len(pids), 3)
        until(lambda: sum(is_gone(pid) for pid in pids) == 1, "the one ends whose program ended")
        self.assertIsNone(process.poll())


if __name__ == "__main__":
    unittest.main()

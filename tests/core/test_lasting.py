"""Reading processes end with the process that started them, and not with the thread."""

from __future__ import annotations

import contextlib
import os
import resource
import signal
import subprocess
import sys
import threading
import time
import unittest
from pathlib import Path

from everyshelf.core.reading.messages import FileAt
from everyshelf.core.reading.worker import Worker

_PARENT = """
import sys, time
from everyshelf.core.reading.worker import Worker
from everyshelf.core.reading.messages import FileAt
worker = Worker()
worker.outline(FileAt("a.txt", sys.argv[1]))
print(worker._process.pid, flush=True)
time.sleep(600)
"""


def _state(pid: int) -> str:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return "gone"


class LastingTests(unittest.TestCase):
    def test_a_reading_process_that_looks_at_nothing_ends_with_its_parent(self) -> None:
        parent = subprocess.Popen([sys.executable, "-c", _PARENT, __file__], stdout=subprocess.PIPE)
        assert parent.stdout is not None
        pid = int(parent.stdout.readline())
        parent.stdout.close()
        os.kill(pid, signal.SIGSTOP)  # as one that works for an hour: it does not see that its input has ended
        parent.kill()
        parent.wait()
        for _ in range(600):
            if _state(pid) in ("gone", "Z", "X"):
                return
            time.sleep(0.05)
        os.kill(pid, signal.SIGKILL)
        self.fail("the reading process goes on without anyone who asked")

    def test_it_outlives_the_thread_that_asked_first(self) -> None:
        with contextlib.closing(Worker()) as worker:
            asked = threading.Thread(target=worker.outline, args=(FileAt("a.txt", __file__),))
            asked.start()
            asked.join()
            assert worker._process is not None
            first = worker._process.pid
            time.sleep(0.2)
            self.assertEqual(worker.outline(FileAt("b.py", __file__)).read_as, "script")
            self.assertEqual(worker._process.pid, first)

    def test_the_kernel_knows_how_much_processor_time_it_may_use(self) -> None:
        with contextlib.closing(Worker()) as worker:
            worker.outline(FileAt("a.txt", __file__))
            assert worker._process is not None
            soft, _ = resource.prlimit(worker._process.pid, resource.RLIMIT_CPU)
            self.assertLess(0, soft)
            self.assertLess(soft, 7200)


if __name__ == "__main__":
    unittest.main()

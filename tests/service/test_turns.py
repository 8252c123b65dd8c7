"""Requests take turns: only so many work at once, and none waits for long, or for one that is waiting itself."""

from __future__ import annotations

import subprocess
import sys
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor

from everyshelf.service.base.turns import Turns
from everyshelf.service.serve import TURN_SECONDS
from everyshelf.service.web.dispatching import TurnDispatcher
from tests.support.factories import ServiceCase

LONG = 60.0  # no test waits as long as this


class _Task:
    """A request that says when it began, and works until it is told to end."""

    def __init__(self, turns: Turns | None = None) -> None:
        self.begun, self.end, self.ended = threading.Event(), threading.Event(), threading.Event()
        self._turns = turns  # given back while it works

    def service(self) -> None:
        self.begun.set()
        if self._turns is None:
            self.end.wait(LONG)
        else:
            with self._turns.given_back():
                self.end.wait(LONG)
        self.ended.set()

    def cancel(self) -> None:
        """Nothing to be undone."""


class TurnTests(unittest.TestCase):
    def dispatcher(self, turns: Turns, patience: float) -> TurnDispatcher:
        made = TurnDispatcher(turns, patience)
        made.set_thread_count(12)
        self.addCleanup(made.shutdown)
        return made

    def test_no_more_than_so_many_work_at_once_and_in_order(self) -> None:
        dispatcher = self.dispatcher(Turns(3), LONG)
        tasks = [_Task() for _ in range(9)]
        for task in tasks:
            dispatcher.add_task(task)
        for first in range(0, 9, 3):
            for task in tasks[first : first + 3]:
                self.assertTrue(task.begun.wait(LONG))
            self.assertFalse(any(task.begun.is_set() for task in tasks[first + 3 :]))
            for task in tasks[first : first + 3]:
                task.end.set()
                self.assertTrue(task.ended.wait(LONG))

    def test_long_ones_hold_nobody_up(self) -> None:
        dispatcher = self.dispatcher(Turns(1), 0.01)
        long, short = _Task(), _Task()
        dispatcher.add_task(long)
        self.assertTrue(long.begun.wait(LONG))
        dispatcher.add_task(short)
        self.assertTrue(short.begun.wait(LONG))
        self.assertFalse(long.ended.is_set())
        for task in (long, short):
            task.end.set()

    def test_who_waits_for_another_process_gives_its_turn_to_the_next(self) -> None:
        turns = Turns(1)
        dispatcher = self.dispatcher(turns, LONG)
        waiting, following = _Task(turns), _Task()
        dispatcher.add_task(waiting)
        self.assertTrue(waiting.begun.wait(LONG))
        dispatcher.add_task(following)
        self.assertTrue(following.begun.wait(LONG))
        for task in (waiting, following):
            task.end.set()
            self.assertTrue(task.ended.wait(LONG))
        again = _Task()
        dispatcher.add_task(again)
        self.assertTrue(again.begun.wait(LONG), "each turn is given back once")
        again.end.set()

    def test_a_request_that_fails_gives_its_turn_back(self) -> None:
        class Failing(_Task):
            def service(self) -> None:
                self.begun.set()
                raise ValueError("a mistake")

        dispatcher = self.dispatcher(Turns(1), LONG)
        tasks = [Failing() for _ in range(20)]
        with self.assertLogs("everyshelf.service.web.dispatching", "ERROR"):
            for task in tasks:
                dispatcher.add_task(task)
            self.assertTrue(all(task.begun.wait(LONG) for task in tasks))


class ThreadTests(unittest.TestCase):
    """Threads of one process: one that computes does not keep others from their many small reads."""

    def test_small_reads_beside_a_thread_that_computes(self) -> None:
        self.addCleanup(sys.setswitchinterval, sys.getswitchinterval())
        rounds = []
        for _ in range(10):  # where other processes want the processor, the two threads may not meet at all
            sys.setswitchinterval(0.005)
            usual = self.seconds()
            sys.setswitchinterval(TURN_SECONDS)
            rounds.append((self.seconds(), usual))
            if rounds[-1][0] < usual / 3:
                return
        self.fail(f"with short turns and with the usual ones: {rounds}")

    def seconds(self) -> float:
        """How long many small steps take that let others compute, beside one that does."""
        end = threading.Event()

        def compute() -> None:
            while not end.is_set():
                sum(n * n for n in range(1000))

        other = threading.Thread(target=compute)
        other.start()
        begun = time.monotonic()
        for _ in range(300):
            time.sleep(0)  # as a read of a file that is in memory: others may compute meanwhile
        seconds = time.monotonic() - begun
        end.set()
        other.join()
        return seconds

    def test_the_service_is_set_so(self) -> None:
        code = "import os, sys; os.environ['DJANGO_SETTINGS_MODULE'] = 'everyshelf.service.settings'; import django"
        code += "; django.setup(); from everyshelf.service import serve; serve._load_application()"
        code += "; print(sys.getswitchinterval())"
        said = subprocess.run([sys.executable, "-c", code], check=True, stdout=subprocess.PIPE, text=True).stdout
        self.assertAlmostEqual(float(said), TURN_SECONDS)


class ManyCallersTests(ServiceCase):
    def test_readers_and_writers_at_once_are_all_answered(self) -> None:
        self.put({"a.json": b'{"n": 0}'})

        def call(number: int) -> int:
            if number % 4:
                return len(list(self.shelf.artifacts("main")))
            self.shelf.make_branch(f"try-{number}", "main")
            return 1

        with ThreadPoolExecutor(16) as pool:
            self.assertEqual(set(pool.map(call, range(96))), {1})
        self.assertEqual(len(self.shelf.branches()), 1 + 24)


if __name__ == "__main__":
    unittest.main()

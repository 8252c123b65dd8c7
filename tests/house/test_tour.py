"""The README tells the truth."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import httpx

from everyshelf.client import Client
from everyshelf.demo.build import PASSWORD, SHELF
from everyshelf.demo.port import BERTHS, PIERS
from tests.support.tour import README, demo_running, run, steps, told


class TourTests(unittest.TestCase):
    """Every command of the five-minute tour prints what the page says it prints."""

    def test_each_command_prints_what_the_page_says_and_the_demo_stops_and_starts_again(self) -> None:
        wanted = steps(README.read_text())
        self.assertGreater(len(wanted), 15)
        compared = 0
        with tempfile.TemporaryDirectory(prefix="es-tour-data-") as folder:
            data = Path(folder) / "data"
            for step, lines in run(wanted, data):
                with self.subTest(command=step.command):
                    self.assertEqual(told(lines), told(step.output), "run `make tour`")
                    compared += 1
            self.assertEqual(compared, len(wanted) - 1)
            self._ended_from_outside(data)

    def _ended_from_outside(self, data: Path) -> None:
        with demo_running(data) as (address, demo, _home):
            self.assertEqual(httpx.get(f"{address}/healthz").status_code, 200)
            self._colleague_in_git(address)
            demo.terminate()
            self.assertEqual(demo.wait(30), 0)
            with self.assertRaises(httpx.TransportError):
                httpx.get(f"{address}/healthz")

    def _colleague_in_git(self, address: str) -> None:
        """What came from the colleague: a link that follows, a conflict for both who made it, and a build of each."""
        with Client(address) as fresh:
            token = fresh.sign_in_for_token("ines", PASSWORD, "a test", ["read", "write"], 1).value
        with Client(address, token) as client:
            shelf = client.shelf(SHELF)
            link = shelf.git_link("port-office").link
            self.assertTrue(link.follows)
            states = {line.branch: line.state for line in link.lines}
            self.assertEqual(states, {"main": "in step", PIERS: "in step", BERTHS: "diverged"})
            waits = [one["merge"] for one in client.waiting() if one["what"] == "settle"]
            self.assertEqual(waits, [line.merge for line in link.lines if line.merge])
            for branch in (BERTHS, PIERS):
                checks = {check["name"]: check["passed"] for check in shelf.checks(branch)}
                self.assertTrue(checks["fare build"], branch)
            self.assertEqual(shelf.task("SK-251").total, 3)


if __name__ == "__main__":
    unittest.main()

"""The README tells the truth."""

from __future__ import annotations

import tempfile
import unittest
from pathlib import Path

import httpx

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
            demo.terminate()
            self.assertEqual(demo.wait(30), 0)
            with self.assertRaises(httpx.TransportError):
                httpx.get(f"{address}/healthz")


if __name__ == "__main__":
    unittest.main()

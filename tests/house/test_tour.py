"""The README tells the truth."""

from __future__ import annotations

import unittest

import httpx

from tests.support.tour import README, demo_running, run, steps, told


class TourTests(unittest.TestCase):
    """Every command of the five-minute tour prints what the page says it prints."""

    def test_each_command_prints_what_the_page_says(self) -> None:
        wanted = steps(README.read_text())
        self.assertGreater(len(wanted), 15)
        compared = 0
        for step, lines in run(wanted):
            with self.subTest(command=step.command):
                self.assertEqual(told(lines), told(step.output), "run `make tour`")
                compared += 1
        self.assertEqual(compared, len(wanted) - 1)

    def test_demo_ended_from_outside_stops_its_service(self) -> None:
        with demo_running() as (address, demo, _home):
            self.assertEqual(httpx.get(f"{address}/healthz").status_code, 200)
            demo.terminate()
            self.assertEqual(demo.wait(30), 0)
            with self.assertRaises(httpx.TransportError):
                httpx.get(f"{address}/healthz")


if __name__ == "__main__":
    unittest.main()

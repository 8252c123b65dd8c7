"""The whole as a person gets it: the demo, the wheel, and one name for the command."""

from __future__ import annotations

import json
import os
import re
import sqlite3
import subprocess
import sys
import tempfile
import unittest
import zipfile
from pathlib import Path

from tests.support.laws import in_full
from tests.support.service import free_port

ROOT = Path(__file__).parents[2]


class DemoTests(unittest.TestCase):
    """``everyshelf demo --no-serve`` builds four weeks, shows the main job, and ends."""

    def run_demo(self, data: Path, port: int) -> str:
        done = subprocess.run(
            [
                sys.executable,
                "-m",
                "everyshelf.cli.main",
                "demo",
                "--no-serve",
                "--data",
                str(data),
                "--port",
                str(port),
            ],
            capture_output=True,
            text=True,
            timeout=180,
            check=False,
            env={**os.environ, "NO_COLOR": "1"},
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        return done.stdout

    @in_full  # the tour starts one, too
    def test_demo_builds_shows_and_is_quick_the_second_time(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            data, port = Path(folder) / "demo", free_port()
            first = self.run_demo(data, port)
            for words in (
                "Demo ready",
                "2 steps added",
                "leads to Over 20 min late? → Check tide window",
                "would add 1, change 12",
                "tag:spring-2 is now running in test",
                "read back",
            ):
                self.assertIn(words, first)
            again = self.run_demo(data, port)
            self.assertNotIn("Demo ready", again)
            self.assertIn("timetable: development → test → production", again)
            current = data / "service/environments/skerry-line/development/now"
            self.assertTrue((current / "workflows/disruption-notice.bpmn").exists())
            with sqlite3.connect(data / "platform.sqlite") as platform:
                names = {row[0] for row in platform.execute("SELECT name FROM objects WHERE space = 'production'")}
            self.assertIn("workflows/disruption-notice.bpmn", names)

    def test_history_is_believable(self) -> None:
        from everyshelf.demo.story import acts

        story = list(acts())
        self.assertGreaterEqual(max(a.days_ago for a in story) - min(a.days_ago for a in story), 28)
        self.assertEqual({a.who for a in story}, {"maren", "ines", "tobias"})
        self.assertEqual(sum(a.do == "tag" for a in story), 3)
        self.assertEqual([a.days_ago for a in story], sorted((a.days_ago for a in story), reverse=True))
        self.assertGreater(sum(a.do == "commit" for a in story), 24)

    def test_scenario_is_the_same_every_time(self) -> None:
        from everyshelf.demo import flows, papers, tables

        for make in (
            lambda: tables.sailings(5),
            lambda: tables.passengers(3),
            lambda: tables.gate_log(4),
            flows.disruption,
            papers.picture,
            flows.gangway_app,
        ):
            self.assertEqual(make(), make())


class WheelTests(unittest.TestCase):
    """One installable wheel with the built console in it."""

    def test_wheel_holds_package_console_and_command(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            done = subprocess.run(
                [
                    sys.executable,
                    "-m",
                    "pip",
                    "wheel",
                    "-q",
                    "--no-deps",
                    "--no-build-isolation",
                    "-w",
                    folder,
                    str(ROOT),
                ],
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr[-1000:])
            wheel = next(Path(folder).glob("*.whl"))
            with zipfile.ZipFile(wheel) as archive:
                names = archive.namelist()
                entry = next(n for n in names if n.endswith("entry_points.txt"))
                self.assertIn("everyshelf = everyshelf.cli.main:run", archive.read(entry).decode())
                page = archive.read("everyshelf/service/web/console/index.html").decode()
        self.assertIn("everyshelf/py.typed", names)
        for asset in re.findall(r'(?:src|href)="/(assets/[^"]+)"', page):
            self.assertIn(f"everyshelf/service/web/console/{asset}", names)
        self.assertFalse([n for n in names if "node_modules" in n or n.startswith("tests")])

    def test_console_loads_nothing_from_outside(self) -> None:
        built = ROOT / "src/everyshelf/service/web/console"
        for file in [built / "index.html", *built.glob("assets/*.css")]:
            self.assertEqual(
                re.findall(r"(?:src|href)=[\"']https?://|url\([\"']?https?://", file.read_text()), [], file
            )

    def test_versions_agree(self) -> None:
        import everyshelf

        pinned = json.loads((ROOT / "console/package.json").read_text())["version"]
        self.assertIn(f'version = "{everyshelf.__version__}"', (ROOT / "pyproject.toml").read_text())
        self.assertEqual(pinned, everyshelf.__version__)

    def test_lock_pins_everything_that_is_declared(self) -> None:
        lock = (ROOT / "requirements/lock.txt").read_text()
        for name in ("runtime.in", "dev.in"):
            for line in (ROOT / "requirements" / name).read_text().splitlines():
                package = line.partition("#")[0].partition("==")[0].strip()
                if package:
                    self.assertRegex(lock, rf"(?im)^{re.escape(package)}==", package)
        declared = (ROOT / "pyproject.toml").read_text()
        for line in (ROOT / "requirements/runtime.in").read_text().splitlines():
            if line and not line.startswith("#"):
                self.assertIn(f'"{line}"', declared)

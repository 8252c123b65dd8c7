"""The scripts of docs/build-pipelines.md, as they stand there."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

from tests.support.factories import ServiceCase, Terminal
from tests.support.service import free_port
from tests.support.waiting import until

PAGE = Path(__file__).parents[2] / "docs" / "build-pipelines.md"
# What a shelf brings along to be run: the fare of every zone is more than nothing.
CHECKS = b"""
import csv, sys
rows = list(csv.DictReader(open("fares.csv")))
wrong = [row for row in rows if float(row.get("fare") or 1) <= 0]
cases = "".join('<testcase name="zone %s">%s</testcase>' % (r["zone"], '<failure/>' if r in wrong else "") for r in rows)
open(sys.argv[1], "w").write("<testsuite>%s</testsuite>" % cases)
sys.exit(bool(wrong))
"""


def script(language: str) -> str:
    """The one block of a language on the page."""
    (found,) = re.findall(rf"^```{language}\n(.*?)^```$", PAGE.read_text(), re.MULTILINE | re.DOTALL)
    return str(found)


class BuildTests(ServiceCase):
    """A shelf with tests of its own, a tag that is live, and a build."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"fares.csv": b"zone,fare\nZ1,4\nZ2,5\n", "checks/run.py": CHECKS}, "First")
        self.shelf.make_tag("live")
        self.home = Terminal(self, self.service).home
        self.environment = {
            **os.environ,
            "PATH": f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}",
            "EVERYSHELF_ADDRESS": self.service.address,
            "EVERYSHELF_TOKEN": self.service.token("owner", ["read", "write", "promote"]),
            "EVERYSHELF_SHELF": self.shelf.key,
            "EVERYSHELF_CONFIG": str(self.home / "config"),
        }
        (self.home / "build.sh").write_text(script("sh"))

    def run_there(self, *command: str, code: int) -> str:
        done = subprocess.run(command, cwd=self.home, env=self.environment, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, code, f"{done.stdout}\n{done.stderr}")
        return done.stdout + done.stderr

    def results(self, ref: str) -> list[tuple[str, bool, str]]:
        return [(check["name"], check["passed"], check["comment"]) for check in self.shelf.checks(ref)]

    def test_the_shell_script_tells_good_failed_and_breaking_apart(self) -> None:
        for files, code, results in (
            ({"fares.csv": b"zone,fare\nZ1,4\nZ2,6\n"}, 0, ("nightly", True, "2 of 2 passed")),
            ({"fares.csv": b"zone,fare\nZ1,0\nZ2,6\n"}, 1, ("nightly", False, "1 of 2 passed; failed: zone Z1")),
            ({"fares.csv": b"zone\nZ1\nZ2\n"}, 6, ("nightly", True, "2 of 2 passed")),
        ):
            with self.subTest(code):
                commit = self.put(files).commit
                said = self.run_there("sh", "build.sh", commit, code=code)
                self.assertEqual(self.results(f"commit:{commit}"), [results], said)
        self.assertIn("column", said)

    def test_the_makefile_releases_what_is_good(self) -> None:
        (self.home / "Makefile").write_text(script("make"))
        self.shelf.make_environment("test")
        self.put({"fares.csv": b"zone,fare\nZ1,4\nZ2,6\n"})
        self.run_there("make", "release", "NAME=spring", code=0)
        self.assertEqual(self.results("tag:spring"), [("nightly", True, "2 of 2 passed")])
        current = self.shelf.environment("test").current
        self.assertEqual(current.tag if current else "", "spring")
        self.assertTrue((self.home / "breaks.html").is_file())
        self.put({"fares.csv": b"zone\nZ1\n"})
        self.run_there("rm", "-rf", "work", "results.xml", code=0)
        self.run_there("make", "release", "NAME=summer", code=2)
        self.assertEqual([tag.name for tag in self.shelf.tags()], ["spring", "live"])

    def test_an_event_starts_a_build(self) -> None:
        (self.home / "receive.py").write_text(script("python"))
        port, secret = free_port(), "a-secret-of-the-builds"
        command = [sys.executable, "receive.py", str(port), secret]
        process = subprocess.Popen(command, cwd=self.home, env=self.environment, stderr=subprocess.DEVNULL)
        self.addCleanup(process.wait)
        self.addCleanup(process.kill)
        self.shelf.make_webhook("builds", f"http://127.0.0.1:{port}/events", ["commit", "git"], secret=secret)
        until(lambda: self.shelf.test_webhook("builds").state == "done", "the program to listen")
        commit = self.put({"fares.csv": b"zone,fare\nZ1,4\nZ2,6\n"}, "Dearer").commit
        until(lambda: self.results(f"commit:{commit}"), "the build")
        self.assertEqual(self.results(f"commit:{commit}"), [("nightly", True, "2 of 2 passed")])
        self.shelf.change_webhook("builds", secret="another-secret-than-that")
        refused = self.shelf.test_webhook("builds")
        self.assertEqual((refused.state, refused.status), ("failed", 403))

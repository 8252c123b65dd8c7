"""The console's pure functions: their own tests, in the language they are written in."""

from __future__ import annotations

import json
import subprocess
import tempfile
import unittest
from pathlib import Path

CONSOLE = Path(__file__).parents[2] / "console"


class FunctionTests(unittest.TestCase):
    """Each file of `console/tests`, run by the console's test runner."""

    def test_every_file_passes(self) -> None:
        with tempfile.TemporaryDirectory(prefix="es-functions-") as folder:
            report = Path(folder, "report.json")
            command = ["npm", "run", "--silent", "test", "--", "--reporter=json", f"--outputFile={report}"]
            run = subprocess.run(command, cwd=CONSOLE, capture_output=True, text=True, check=False)
            self.assertTrue(report.exists(), run.stdout + run.stderr)
            told = json.loads(report.read_text())
        files = {Path(one["name"]).name for one in told["testResults"]}
        self.assertEqual(files, {path.name for path in (CONSOLE / "tests").glob("*.test.ts")})
        failed = [
            f"{one['fullName']}: {' '.join(one['failureMessages'])[:500]}"
            for file in told["testResults"]
            for one in file["assertionResults"]
            if one["status"] != "passed"
        ]
        self.assertEqual(failed, [])
        self.assertGreater(told["numPassedTests"], 60)

"""Running one test module in this process, and what came of it."""

from __future__ import annotations

import io
import time
import unittest
import warnings
from dataclasses import dataclass

from tests.support import figures


@dataclass(frozen=True)
class Ran:
    """What one module's tests came to."""

    module: str
    tests: int
    failed: int
    skipped: int
    report: str
    figures: tuple[str, ...]
    seconds: float


def run(name: str) -> Ran:
    """Run the tests of one module, class or test in this process."""
    warnings.simplefilter("error", DeprecationWarning)
    warnings.filterwarnings("ignore", category=DeprecationWarning, module=r"selenium|urllib3|trio|websocket")
    # It warns of what stands in a file (an escape nobody knows), not of a use of it.
    warnings.filterwarnings("ignore", category=DeprecationWarning, module="pickletools")
    start, report = time.monotonic(), io.StringIO()
    figures.SAID.clear()
    found = unittest.defaultTestLoader.loadTestsFromName(name)
    result = unittest.TextTestRunner(report, verbosity=1, buffer=True).run(found)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    said = tuple(figures.SAID)
    return Ran(name, result.testsRun, failed, len(result.skipped), report.getvalue(), said, time.monotonic() - start)

"""``python -m tests [NAME …]``: run the tests, then print the line continuous integration reads."""

from __future__ import annotations

import sys
import time
import unittest
import warnings
from pathlib import Path


def main() -> int:
    warnings.simplefilter("error", DeprecationWarning)
    warnings.filterwarnings("ignore", category=DeprecationWarning, module=r"selenium|urllib3|trio|websocket")
    root = Path(__file__).parent
    loader = unittest.TestLoader()
    names = sys.argv[1:]
    found = loader.loadTestsFromNames(names) if names else loader.discover(str(root), "test_*.py", str(root.parent))
    start = time.monotonic()
    result = unittest.TextTestRunner(verbosity=1, buffer=True).run(found)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    print(f"{time.monotonic() - start:.0f} s")
    print(f"{passed} passed, {failed} failed", flush=True)
    return 1 if failed or not result.testsRun else 0


if __name__ == "__main__":
    sys.exit(main())

"""``python -m tests [NAME …]``: run the tests, one module at a time in each of a few processes, then print the line
continuous integration reads."""

from __future__ import annotations

import multiprocessing
import os
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

from tests.check import CHECKED
from tests.support.records import keep_for_this_run
from tests.support.running import Ran, run

# Those that wait for browsers and services come first, so that the end is not a wait for one of them.
_SLOW_FIRST = ("tests.console", "tests.house", "tests.cli", "tests.service", "tests.destinations", "tests.desk")


def modules() -> list[str]:
    """Every test module, those that take longest first."""
    root = Path(__file__).parent
    found = [".".join(p.relative_to(root.parent).with_suffix("").parts) for p in sorted(root.rglob("test_*.py"))]
    if os.environ.get("EVERYSHELF_CHECKED"):  # `make check` runs these, and runs beside
        found = [name for name in found if name not in CHECKED]
    return sorted(found, key=lambda name: not name.startswith(_SLOW_FIRST))


def _all(names: list[str]) -> Iterator[Ran]:
    # A third of the time of a module is waiting for services, browsers and disks: one more than there are processors.
    workers = min(len(names), (os.cpu_count() or 1) + 1)
    if len(names) == 1:
        yield from map(run, names)
        return
    with ProcessPoolExecutor(workers, mp_context=multiprocessing.get_context("spawn")) as pool:
        asked = {pool.submit(run, name): name for name in names}
        for done in as_completed(asked):
            if (error := done.exception()) is not None:
                yield Ran(asked[done], 1, 1, 0, f"the process running it ended: {error!r}", (), 0.0)
            else:
                yield done.result()


def main() -> int:
    start = time.monotonic()
    tests = failed = skipped = 0
    keep_for_this_run()
    for ran in _all(sys.argv[1:] or modules()):
        tests, failed, skipped = tests + ran.tests, failed + ran.failed, skipped + ran.skipped
        sign = "✗" if ran.failed else "✓"
        left_out = f", {ran.skipped} skipped" if ran.skipped else ""
        print(f"{sign} {ran.module}: {ran.tests} tests{left_out}, {ran.seconds:.0f} s", flush=True)
        for line in ran.figures:
            print(f"    {line}", flush=True)
        if ran.failed:
            print(ran.report, flush=True)
    print(f"{time.monotonic() - start:.0f} s")
    print(f"{tests - failed - skipped} passed, {failed} failed", flush=True)
    return 1 if failed or not tests else 0


if __name__ == "__main__":
    sys.exit(main())

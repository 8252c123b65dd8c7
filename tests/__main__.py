"""``python -m tests [--nightly] [--note] [NAME …]``: run the tests, one module at a time in each of a few processes, then
print the line continuous integration reads.

``--nightly`` runs all modules, also those that ``tests.sets`` leaves to the night; ``--note`` notes how long each took.
"""

from __future__ import annotations

import multiprocessing
import os
import sys
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed

from tests.check import CHECKED
from tests.sets import NIGHTLY, longest_first, modules, note
from tests.support.records import keep_for_this_run
from tests.support.running import Ran, run


def _wanted(nightly: bool) -> list[str]:
    left_out = set() if nightly else set(NIGHTLY)
    if os.environ.get("EVERYSHELF_CHECKED"):  # `make check` runs these, and runs beside
        left_out.update(CHECKED)
    return longest_first([name for name in modules() if name not in left_out])


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
    given = sys.argv[1:]
    options = {word for word in given if word.startswith("--")}
    names = [word for word in given if word not in options] or _wanted("--nightly" in options)
    start = time.monotonic()
    seconds: dict[str, float] = {}
    tests = failed = skipped = 0
    keep_for_this_run()
    for ran in _all(names):
        seconds[ran.module] = ran.seconds
        tests, failed, skipped = tests + ran.tests, failed + ran.failed, skipped + ran.skipped
        sign = "✗" if ran.failed else "✓"
        left_out = f", {ran.skipped} skipped" if ran.skipped else ""
        print(f"{sign} {ran.module}: {ran.tests} tests{left_out}, {ran.seconds:.0f} s", flush=True)
        for line in ran.figures:
            print(f"    {line}", flush=True)
        if ran.failed:
            print(ran.report, flush=True)
    if "--note" in options:
        note(seconds)
    print(f"{time.monotonic() - start:.0f} s")
    print(f"{tests - failed - skipped} passed, {failed} failed", flush=True)
    return 1 if failed or not tests else 0


if __name__ == "__main__":
    sys.exit(main())

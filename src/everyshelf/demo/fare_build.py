"""What the demo's build server runs for a commit: ``python -m everyshelf.demo.fare_build COMMIT``.

It reads the fares of that commit, looks whether each has a price, and records the result as a check. Address, token and
shelf come from the environment, as for the scripts of ``docs/build-pipelines.md``.
"""

from __future__ import annotations

import csv
import io
import os
import sys
from xml.sax.saxutils import quoteattr

from everyshelf.client import Client

CHECK = "fare build"
_PATH = "data/fares.csv"


def results_of(data: bytes) -> str:
    """The results in the JUnit form: one case for each zone, which fails where a fare is not more than nothing."""
    wrong: dict[str, list[str]] = {}
    for row in csv.DictReader(io.StringIO(data.decode("utf-8-sig"))):
        found = wrong.setdefault(row.get("zone") or "without zone", [])
        try:
            is_fine = float((row.get("fare") or "").replace(",", ".")) > 0
        except ValueError:
            is_fine = False
        if not is_fine:
            found.append(row.get("class") or "?")
    cases = [
        f"<testcase name={quoteattr(zone)}>"
        + (f"<failure message={quoteattr(', '.join(classes))}/>" if classes else "")
        + "</testcase>"
        for zone, classes in wrong.items()
    ]
    return f"<testsuite>{''.join(cases)}</testsuite>"


def main() -> None:
    """Build one commit; ends with 1 if a fare is wrong."""
    commit = f"commit:{sys.argv[1]}"
    with Client(os.environ["EVERYSHELF_ADDRESS"], os.environ["EVERYSHELF_TOKEN"]) as client:
        shelf = client.shelf(os.environ["EVERYSHELF_SHELF"])
        check = shelf.record_check(CHECK, ref=commit, junit=results_of(shelf.read(_PATH, commit)))
    print(check["comment"])
    sys.exit(0 if check["passed"] else 1)


if __name__ == "__main__":
    main()

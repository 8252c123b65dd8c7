"""``python -m tests.check``: the part of the tests that ``make check`` runs: arrows, schema, migrations, documents."""

from __future__ import annotations

import sys
import unittest

CHECKED = ("tests.house.test_arrows", "tests.house.test_documents")

if __name__ == "__main__":
    found = unittest.defaultTestLoader.loadTestsFromNames(CHECKED)
    sys.exit(not unittest.TextTestRunner(verbosity=0).run(found).wasSuccessful())

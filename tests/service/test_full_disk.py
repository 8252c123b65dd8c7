"""A.5: a full disk is answered with 507, loses nothing, and is over when there is room."""

from __future__ import annotations

import unittest

from bench.full_disk import campaign


class FullDiskTests(unittest.TestCase):
    """A sample of the campaign of ``make bench``."""

    def test_random_moments(self) -> None:
        outcome = campaign(12, 5)
        if outcome is None:
            self.skipTest("no small file system can be mounted here")
        self.assertEqual(outcome.wrong, [], outcome.statuses)
        self.assertGreater(outcome.statuses[507], 0)

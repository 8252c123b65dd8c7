"""A long line of commits mapped to Git with the help of other processes: the same ids as without, whatever they do."""

from __future__ import annotations

import json

from tests.support.factories import ServiceCase, commit_files

MAPPED = """
import collections, json, os
from everyshelf.service.exchange.actions import ahead
from everyshelf.service.exchange.actions.repositories import forget, locked
from everyshelf.service.exchange.actions.showing import bring_up_to_date
from everyshelf.service.exchange.models import GitPair
from everyshelf.service.shelves.models import Shelf

shelf = Shelf.objects.get(key=KEY)
count = collections.Counter()
seen = ahead.Ahead.seen

def counted(self, place):
    found = seen(self, place)
    count[found is not None] += 1
    return found

def fails(opened, store, states, told):
    raise ValueError("a mistake")

def goes_down(opened, store, states, told):
    os._exit(9)

ahead.Ahead.seen = counted
ahead._BATCH = 4
looked = ahead.look_ahead
answers = []
for worth, work in ((1000, looked), (3, looked), (3, fails), (3, goes_down)):
    ahead.WORTH, ahead.look_ahead = worth, work
    count.clear()
    with locked(shelf):
        forget(shelf)
        bring_up_to_date(shelf)
    ids = list(GitPair.objects.filter(shelf=shelf).order_by("commit").values_list("git", flat=True))
    answers.append([ids, count[True], count[False]])
print("ANSWERS" + json.dumps(answers))
"""


class AheadTests(ServiceCase):
    def test_the_ids_are_the_same(self) -> None:
        commit_files(self.shelf, {"a.csv": b"n,fare\n1,2\n", "d/b.json": b"{}\n"}, "Begin")
        for n in range(9):
            commit_files(
                self.shelf, {f"d/{n % 3}.csv": b"n,fare\n%d,2\n" % n, "gone.txt": b"x" if n % 2 else None}, f"{n}"
            )
        commit_files(self.shelf, {f"parts/zone=Z{n}/part-{n}.csv": b"n\n1\n" for n in range(3)}, "In parts")
        commit_files(self.shelf, {"parts/zone=Z1/part-1.csv": b"n\n2\n"}, "A part")
        commit_files(self.shelf, {"shelf.toml": b'[folders]\nwhole = ["d/"]\n'}, "Rules")
        commit_files(self.shelf, {"d/b.json": b'{"n": 1}\n'}, "After rules")
        self.shelf.make_branch("other", "main")
        commit_files(self.shelf, {"other.txt": b"1\n"}, "Other", "other")
        commit_files(self.shelf, {"main.txt": b"1\n"}, "Main")
        self.shelf.merge("other", "main", summary="Merge")
        said = self.service.run_python(MAPPED.replace("KEY", repr(self.shelf.key)))
        answers = json.loads(said.partition("ANSWERS")[2])
        alone, helped, failing, down = answers
        self.assertGreater(len(alone[0]), 15)
        for ids, _, _ in answers:
            self.assertEqual(ids, alone[0])
        self.assertEqual(alone[1], 0)
        self.assertGreater(helped[1], len(alone[0]) - 4)  # what would have to be written is left to whoever asked
        self.assertEqual((failing[1], down[1]), (0, 0))

"""Lines of commits kept as bits: the same as plain sets of numbers, whatever the history looks like."""

from __future__ import annotations

import time
import unittest

from hypothesis import given
from hypothesis import strategies as st

from everyshelf.core.errors import BrokenError
from everyshelf.core.history import commit_sets
from everyshelf.core.history.commit_sets import CommitSet, Descent
from tests.support.laws import law

Links = dict[int, list[int]]


@st.composite
def histories(draw: st.DrawFn) -> Links:
    """Commits with gaps between their numbers, first ones, lines that part, merges of two and more."""
    links: Links = {}
    number = 0
    for _ in range(draw(st.integers(1, 40))):
        number += draw(st.integers(1, 9))
        known = list(links)
        most = min(len(known), 3)
        newest_first = st.integers(1, len(known)).map(lambda back, known=known: known[-back]) if known else st.nothing()
        links[number] = draw(st.lists(newest_first, max_size=most, unique=True)) if known else []
    return links


def plain_line(links: Links, start: int) -> set[int]:
    """What a line is: the commit, and the lines of its parents."""
    found, waiting = {start}, [start]
    while waiting:
        fresh = set(links[waiting.pop()]) - found
        found |= fresh
        waiting += fresh
    return found


def descent_of(links: Links) -> Descent:
    descent = Descent()
    for number, parents in links.items():
        descent.add(number, parents)
    return descent


class LawTests(unittest.TestCase):
    @law(200)
    @given(histories(), st.data())
    def test_lines_are_those_of_plain_sets(self, links: Links, data: st.DataObject) -> None:
        descent = descent_of(links)
        for number in data.draw(st.permutations(list(links))):  # what is kept of others must not matter
            self.assertEqual(list(descent.line(number)), sorted(plain_line(links, number)))
            self.assertEqual(descent.parents(number), links[number])

    @law(200)
    @given(histories(), st.data())
    def test_what_sets_can_do(self, links: Links, data: st.DataObject) -> None:
        descent = descent_of(links)
        one, other = (data.draw(st.sampled_from(list(links))) for _ in range(2))
        here, there = descent.line(one), descent.line(other)
        plain, second = set(here), set(there)
        some = set(data.draw(st.lists(st.integers(0, max(links) + 2))))
        for found, expected in (
            (here & there, plain & second),
            (here | there, plain | second),
            (here - there, plain - second),
            (here & some, plain & some),
            (some & here, plain & some),
            (here - some, plain - some),
            (some - here, some - plain),
            (some | here, some | plain),
            (here ^ there, plain ^ second),
            (CommitSet() | here, plain),
            (here - CommitSet(), plain),
        ):
            self.assertEqual((sorted(found), len(found)), (sorted(expected), len(expected)))
            if not isinstance(found, CommitSet):
                continue
            self.assertEqual(list(found), sorted(expected))
            self.assertEqual(found.newest, max(expected, default=None))
        for number in range(max(links) + 2):
            self.assertEqual(number in here, number in plain)

    @law(200)
    @given(histories(), st.integers(1, 5), st.booleans())
    def test_pages_give_all_of_it_in_order(self, links: Links, size: int, newest_first: bool) -> None:
        line = descent_of(links).line(max(links))
        found: list[int] = []
        while page := line.page(size, after=found[-1] if found else None, newest_first=newest_first):
            self.assertLessEqual(len(page), size)
            found += page
        self.assertEqual(found, sorted(line, reverse=newest_first))

    @law(100)
    @given(histories(), st.data())
    def test_a_copy_grows_by_itself(self, links: Links, data: st.DataObject) -> None:
        descent = descent_of(links)
        last = max(links)
        line = descent.line(last)
        copy = descent.copy()
        copy.add(last + 1, [last])
        descent.add(last + 2, data.draw(st.sampled_from([[], [min(links)]])))
        self.assertEqual(list(copy.line(last + 1)), [*line, last + 1])
        self.assertNotIn(last + 1, descent)
        self.assertNotIn(last + 2, copy)
        self.assertNotIn(last + 1, descent.line(last + 2))


class DescentTests(unittest.TestCase):
    def test_what_is_out_of_order_or_unknown(self) -> None:
        descent = descent_of({3: [], 7: [3]})
        for number, parents in ((7, [3]), (5, [3]), (9, [4]), (9, [9])):
            with self.assertRaises(BrokenError):
                descent.add(number, parents)
        self.assertEqual((list(descent.line(5)), descent.parents(5), descent.newest), ([], [], 7))

    def test_a_long_line_is_made_from_that_of_the_parent(self) -> None:
        """Beside the first one, which walks all of it: each further one takes a small part of that."""
        descent = Descent()
        for number in range(1, 100_001):
            descent.add(number, [number - 1] if number > 1 else [])
        begun = time.process_time()
        descent.line(100_000)
        first = time.process_time() - begun
        begun = time.process_time()
        for number in range(100_001, 100_051):
            descent.add(number, [number - 1])
            self.assertEqual(len(descent.line(number)), number)
        self.assertLess((time.process_time() - begun) / 50, first / 5)

    def test_what_is_kept_is_bounded(self) -> None:
        descent = Descent()
        for number in range(1, 20_001):
            descent.add(number, [number - 1] if number > 1 else [])
        for number in range(10_000, 20_001):
            descent.line(number)
        self.assertLessEqual(sum(map(len, descent._lines.values())), commit_sets._MOST_KEPT_BYTES)
        self.assertGreater(len(descent._lines), 1)
        self.assertEqual(len(descent.line(10_001)), 10_001)

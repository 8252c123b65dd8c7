"""Finding artifacts by the words in them: where they stand, on which shelves, and nothing of others."""

from __future__ import annotations

import csv
import io
import itertools
import json
from typing import Any

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError
from everyshelf.core.answers.find import FindAnswer
from tests.support.factories import ServiceCase, Terminal, commit_files
from tests.support.known_origins import workbook
from tests.support.waiting import until

_words = itertools.count(1)


def _pipeline(**steps: str) -> bytes:
    told = [{"id": name, "command": command, "after": [next(iter(steps))]} for name, command in steps.items()]
    return json.dumps({"pipeline": "nightly", "steps": told}).encode()


class FindCase(ServiceCase):
    """Each test looks for a word of its own, as all share one service."""

    def setUp(self) -> None:
        super().setUp()
        self.word = f"quay{next(_words)}q"

    def found(self, words: str, **filters: Any) -> FindAnswer:
        """What is found once everything is read."""
        return until(lambda: self._read(words, filters), "everything to be read")

    def _read(self, words: str, filters: dict[str, Any]) -> FindAnswer | None:
        found = self.client.find(words, **filters)
        return found if found.unread == 0 else None

    def paths(self, words: str, **filters: Any) -> list[str]:
        return sorted(item.path for item in self.found(words, **filters).items)


class WordsTests(FindCase):
    def test_in_every_kind_of_place(self) -> None:
        word = self.word
        cells = {"cells": [{"cell_type": "code", "metadata": {}, "outputs": [], "source": [f"x = 1\n{word} = 2"]}]}
        notebook = {**cells, "metadata": {}, "nbformat": 4, "nbformat_minor": 4}
        rows = "".join(f"Z{k},{'open ' + word if k % 2 else 'closed'}\n" for k in range(20))
        files = {
            "p.json": _pipeline(load="read", join=f"wait for {word}"),
            "n.ipynb": json.dumps(notebook).encode(),
            "s.py": f"def tide():\n    return '{word}'\n".encode(),
            "columns.csv": f"zone,{word}\nZ1,2\nZ2,3\n".encode(),
            "cells.csv": f"zone,state\n{rows}".encode(),
            f"{word}/named.bin": b"\0\1\2",
            "other.txt": b"nothing of it\n",
        }
        commit_files(self.shelf, dict(files), "All kinds")
        found = self.found(word)
        told = {item.path: item for item in found.items}
        self.assertEqual(sorted(told), sorted(path for path in files if path != "other.txt"))
        self.assertEqual((found.total, found.by_kind["dataset"]), (6, 2))
        places = {path: item.places[0] for path, item in told.items() if item.places}
        self.assertEqual((places["p.json"].part, places["p.json"].text), ("/step:join", f"command: wait for {word}"))
        self.assertEqual((places["n.ipynb"].type, places["n.ipynb"].field), ("cell", "source, line 2"))
        self.assertEqual((places["s.py"].part, places["s.py"].text), ("/line:2", f"return '{word}'"))
        self.assertEqual(places["columns.csv"].type, "column")
        self.assertEqual((places["cells.csv"].label, places["cells.csv"].field), ("state", "10 rows"))
        start, end = places["s.py"].marks[0]
        self.assertEqual(places["s.py"].text[start:end], word)
        self.assertEqual(told[f"{word}/named.bin"].marks[0], (0, len(word)))

    def test_words_phrases_prefixes_accents_and_operators(self) -> None:
        word = self.word
        texts = {
            "both.txt": f"the {word} tide and the window\n",
            "phrase.txt": f"the {word} tide window\n",
            "under.txt": f"{word} = tide_window\n",
            "hump.txt": f"{word}: tideWindow\n",
            "accent.txt": f"{word} Tidé fenêtre\n",
        }
        commit_files(self.shelf, {path: text.encode() for path, text in texts.items()}, "Texts")
        self.assertEqual(self.paths(f"{word} tide window"), ["both.txt", "hump.txt", "phrase.txt", "under.txt"])
        self.assertEqual(self.paths(f'{word} "tide window"'), ["hump.txt", "phrase.txt", "under.txt"])
        self.assertEqual(self.paths(f"{word} TID"), sorted(texts))
        self.assertEqual(self.paths(f'{word} "tid"'), [])
        self.assertEqual(self.paths(f"{word} fenetre"), ["accent.txt"])
        for odd in (f"{word} OR other", f"{word} NOT tide", f'{word} "', f"{word} * ( ) : ^ - +", f"NEAR({word}"):
            self.client.find(odd)
        self.assertEqual(self.paths(f"{word} '; DROP TABLE find_text; --"), [])
        self.assertEqual(len(self.paths(word)), 5)

    def test_filters_order_pages_and_counts(self) -> None:
        word = self.word
        for number in range(45):
            name = f"a{number:02}.txt" if number % 3 else f"b{number:02}.toml"
            text = f"{word} {number}\n" if number % 3 else f'{word} = "{number}"\n'
            message = CommitMessage(
                f"Say {number}", author="ines" if number % 2 else "maren", labels={"season": "spring"}
            )
            change = ChangeRequest(name, self.shelf.upload(text.encode()).id)
            self.shelf.commit("main", self.shelf.branch("main").head, [change], message)
        found = self.found(word)
        self.assertEqual((found.total, len(found.items)), (45, 45))
        self.assertEqual(found.by_kind, {"report": 30, "settings": 15})
        self.assertEqual(found.by_person, {"maren": 23, "ines": 22})
        self.assertEqual(found.by_label, {"season=spring": 45})
        self.assertEqual(len(self.client.find(word, limit=10).items), 10)
        self.assertEqual(self.client.find(word, kinds=["settings"]).total, 15)
        self.assertEqual(self.client.find(word, by="Ines").total, 22)
        self.assertEqual(self.client.find(word, kinds=["settings"], by="ines").total, 7)
        self.assertEqual(self.client.find(word, label="season=autumn").total, 0)
        self.assertEqual(self.client.find(word, since="2001-01-01", until="2001-02-01").total, 0)
        self.assertEqual(self.client.find(word, larger=10_000).total, 0)
        newest = [item.path for item in self.client.find(word, order="newest").items]
        self.assertEqual(newest[:2], ["a44.txt", "a43.txt"])
        by_name = [item.path for item in self.client.find(word, order="name").items]
        self.assertEqual(by_name, sorted(by_name))
        with self.assertRaises(ProblemError) as caught:
            self.client.find("")
        self.assertEqual(caught.exception.code, "find.nothing")

    def test_branches_and_earlier_versions(self) -> None:
        word = self.word
        commit_files(self.shelf, {"t.txt": f"{word} one\n".encode()}, "First")
        commit_files(self.shelf, {"t.txt": f"{word} one two\n".encode()}, "Second")
        commit_files(self.shelf, {"t.txt": b"gone from here\n"}, "Third")
        self.shelf.make_branch("try", "main")
        commit_files(self.shelf, {"u.txt": f"{word} tried\n".encode()}, "On a branch", "try")
        found = self.found(word)
        self.assertEqual([(item.path, item.branches) for item in found.items], [("u.txt", ["try"])])
        ever = self.found(word, history=True)
        told = {item.path: item for item in ever.items}
        self.assertEqual((told["t.txt"].first, told["t.txt"].last, told["t.txt"].branches), (1, 2, []))
        self.shelf.merge("try", "main")
        self.assertEqual([item.branches for item in self.found(word).items], [["main"]])
        self.shelf.delete_branch("try")
        self.assertEqual(self.found(word).total, 1)
        commit_files(self.shelf, {"u.txt": None}, "Away")
        self.assertEqual(self.found(word).total, 0)

    def test_sheets_and_what_cannot_be_read(self) -> None:
        from tests.support.known_origins import Document, Unit

        book = workbook(Document([Unit("u1", dict.fromkeys(("command", "limit", "owner"), f"by {self.word}"))]), 0)
        broken = b'{"steps": [' + self.word.encode()
        commit_files(self.shelf, {"b.xlsx": book, "broken.json": broken}, "Two")
        found = {item.path: item.places for item in self.found(self.word).items}
        self.assertEqual(found["b.xlsx"][0].part, "/sheet:Berths/cell:B2")
        self.assertEqual(found["broken.json"][0].type, "line")


class RightsTests(FindCase):
    def test_what_one_may_not_see_is_in_no_hit_and_no_count(self) -> None:
        commit_files(self.shelf, {"mine.txt": f"{self.word}\n".encode()}, f"Say {self.word}")
        self.found(self.word)
        shown = self.make_shelf()  # one that they do see, so that there is something to look through
        commit_files(shown, {"theirs.txt": b"something else\n"}, "Theirs")
        for person in ("author", "reader"):
            shown.set_member(person, "reader")
            other = self.client_of(person)
            found = other.find(self.word)
            self.assertEqual(
                (found.total, found.items, found.by_kind, found.by_person, found.commits), (0, [], {}, {}, 0)
            )
            with self.assertRaises(ProblemError) as caught:
                other.find(self.word, shelves=[self.shelf.key])
            with self.assertRaises(ProblemError) as unknown:
                other.find(self.word, shelves=["no-such-shelf"])
            self.assertEqual(caught.exception.code, unknown.exception.code)
        self.shelf.set_member("reader", "reader")
        self.assertEqual(self.client_of("reader").find(self.word).total, 1)
        self.shelf.remove_member("reader")
        self.assertEqual(self.client_of("reader").find(self.word).total, 0)


class CommandTests(FindCase):
    def test_find_on_the_command_line(self) -> None:
        word = self.word
        commit_files(
            self.shelf, {"p.json": _pipeline(load=f"wait {word}"), "n.txt": f"{word}\n".encode()}, f"Say {word}"
        )
        self.found(word)
        terminal = Terminal(self, self.service)
        said = terminal.run("find", word).stdout
        self.assertIn("2 artifacts on", said)
        self.assertIn(f"step load  command: wait {word}", said)
        self.assertIn(f"1 commit says the same: everyshelf history --words {word}", said)
        self.assertIn(
            "1 artifact on 1 shelf.", terminal.run("find", word, "--kind", "pipeline", "--shelf", self.shelf.key).stdout
        )
        rows = list(csv.DictReader(io.StringIO(terminal.run("find", word, "--csv").stdout)))
        self.assertEqual({row["path"] for row in rows}, {"p.json", "n.txt"})
        self.assertEqual(json.loads(terminal.run("find", word, "--json").stdout)["total"], 2)
        self.assertIn("find.nothing", terminal.run("find", code=1).stderr)


class ReadingTests(FindCase):
    """The job that reads what a commit made."""

    def test_it_can_be_cancelled_within_a_large_commit(self) -> None:
        commit_files(self.shelf, {f"d/f{n}.csv": b"route,fare\nR%d,1\n" % n for n in range(1_500)}, "Many")
        job = until(self._job, "the job to begin")
        self.client.cancel(job)
        ended = until(lambda: told if (told := self.client.job(job)).ended else None, "the job to stop")
        self.assertEqual(ended.state, "cancelled")
        read = self.service.run_python(
            "from everyshelf.service.find.models import FoundVersion\n"
            f"print(FoundVersion.objects.filter(shelf__key={self.shelf.key!r}).count())"
        )
        self.assertLess(int(read), 1_500)

    def _job(self) -> str:
        return self.service.run_python(
            "from everyshelf.service.jobs.models import Job\n"
            f"jobs = Job.objects.filter(kind='describe', shelf__key={self.shelf.key!r}, state='running')\n"
            "print(jobs.values_list('uid', flat=True).first() or '', end='')"
        )

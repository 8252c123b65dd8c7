"""Looking back shows nothing of a shelf one may not see: no hit, origin, use or lineage step, and no count of one.

Every question is asked by someone who may see one of two shelves: before that person may see the other, while, and after.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import msgspec

from everyshelf.client import ChangeRequest, Client, CommitMessage
from tests.support.factories import ServiceCase, commit_files
from tests.support.used import FILES
from tests.support.waiting import until

Question = Callable[[Client, str], Any]


def _uses(path: str, part: str | None = None) -> Question:
    return lambda client, key: client.shelf(key).uses(path, part=part, depth=20)


QUESTIONS: dict[str, Question] = {
    "find a word": lambda client, key: client.find("quayword"),
    "find a name": lambda client, key: client.find("tides"),
    "find in history": lambda client, key: client.find("quayword", history=True),
    "origins of a copy": lambda client, key: client.shelf(key).origins("taken.json"),
    "forms of a copy's part": lambda client, key: client.shelf(key).forms("taken.json", part="/step:a"),
    "uses of an artifact": _uses("data/tides.csv"),
    "uses of a column": _uses("data/tides.csv", "tide_window"),
    "uses of a process": _uses("workflows/sender.bpmn"),
    "uses of a message": _uses("workflows/waiter.bpmn"),
    "uses of what leads there": _uses("leads.json"),
    "lineage of a copy": lambda client, key: client.shelf(key).lineage("taken.json"),
    "lineage of what was copied": lambda client, key: client.shelf(key).lineage("data/tides.csv"),
    "lineage as a page": lambda client, key: client.shelf(key).lineage_report("taken.json", form="html"),
    "lineage as PROV": lambda client, key: client.shelf(key).lineage_report("data/tides.csv"),
}


class LookingBackRightsTests(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.hidden = self.make_shelf()
        steps = {"pipeline": "far", "steps": [{"id": "a", "command": "quayword", "after": ["a"]}]}
        far = f"shelf://here/{self.shelf.key}@main/data/tides.csv"
        commit_files(
            self.hidden,
            {
                "far.json": json.dumps(steps).encode(),
                "uses.json": json.dumps({"steps": [{"id": "t", "path": far, "columns": ["tide_window"]}]}).encode(),
                "caller.bpmn": FILES["workflows/caller.bpmn"],
                "sender.bpmn": FILES["workflows/sender.bpmn"].replace(b'"warn"', b'"warn_far"'),
                "offered.bpmn": FILES["workflows/waiter.bpmn"]
                .replace(b'"show"', b'"only_there"')
                .replace(b"tide notice", b"other"),
                "quayword/tides.txt": b"quayword\n",
            },
            "All that is not to be seen: quayword",
        )
        commit_files(self.hidden, {"far.json": json.dumps(steps).replace("quayword", "quayword 2").encode()}, "Again")
        self.put({**FILES, "leads.json": json.dumps({"calledElement": "only_there", "name": "x"}).encode()})
        self.shelf.copy(self.hidden.key, "far.json", to="taken.json")
        self.hidden.copy(self.shelf.key, "data/tides.csv", to="tides-taken.csv")
        self.shelf.set_member("reader", "reader")
        change = ChangeRequest("made.csv", self.hidden.upload(b"m\n1\n").id)
        message = CommitMessage("Made", labels={"made-from": "tides-taken.csv"})
        self.hidden.commit("main", self.hidden.branch("main").head, [change], message)
        self.hidden.uses("far.json")
        self.shelf.uses("leads.json")
        until(lambda: self.client.find("quayword", history=True).unread == 0, "everything to be read")
        # What a version changed is written by a job: an answer before it and one after it differ for whoever asks.
        bare = "SELECT count(*) FROM versions WHERE headline = ''"
        for shelf in (self.shelf, self.hidden):
            until(lambda shelf=shelf: shelf.query(bare).rows == [["0"]], "every version to be described")

    def answers(self, client: Client) -> dict[str, str]:
        told = {name: question(client, self.shelf.key) for name, question in QUESTIONS.items()}
        return {name: msgspec.json.encode(answer).decode() for name, answer in told.items()}

    def test_no_answer_depends_on_what_one_may_not_see(self) -> None:
        one = self.answers(self.client_of("reader"))
        for name, answer in one.items():
            # The label of a copy's commit says where it came from: that is of the shelf one sees.
            said = answer.replace(f"{self.hidden.key}/far.json version", "")
            self.assertNotIn(self.hidden.key, said, name)
        self.hidden.set_member("reader", "reader")
        allowed = self.answers(self.client_of("reader"))
        self.hidden.remove_member("reader")
        refused = self.answers(self.client_of("reader"))
        same = {name for name in QUESTIONS if allowed[name] == one[name]}
        self.assertEqual(
            same, {"origins of a copy", "forms of a copy's part"}, "questions that the other shelf changes"
        )
        for name in QUESTIONS:
            self.assertEqual(refused[name], one[name], name)

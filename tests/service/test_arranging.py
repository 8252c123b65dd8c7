"""The list of artifacts filtered and sorted by the service, against the same done by hand; and a state in short."""

from __future__ import annotations

import random
from typing import Any

import httpx

from everyshelf.client import ChangeRequest, CommitMessage, Saving
from tests.support.factories import ServiceCase, Terminal
from tests.support.waiting import until

_SUMMARIES = ("Fares of spring", "Tides of the week", "Quiet hours")


class ArrangingTests(ServiceCase):
    """Some eighty artifacts of four kinds in six folders, by three commits."""

    def setUp(self) -> None:
        super().setUp()
        draw = random.Random(7)
        self.known: dict[str, dict[str, Any]] = {}
        kinds = {"md": ("report", b"# %d\n"), "csv": ("dataset", b"id,n\n1,%d\n"), "py": ("script", b"n = %d\n")}
        for summary in _SUMMARIES:
            changes = []
            for number in draw.sample(range(60), 40):
                end = ("md", "csv", "py")[number % 3]
                path = f"area {number % 5}/part {number:02}.{end}" if number % 7 else f"part {number:02}.{end}"
                kind, text = kinds[end]
                data = text % draw.randrange(10 ** draw.randrange(1, 9))
                changes.append(ChangeRequest(path, self.shelf.upload(data).id))
                version = self.known.get(path, {"version": 0})["version"] + 1
                self.known[path] = {"kind": kind, "size": len(data), "version": version, "summary": summary}
            self.shelf.commit("main", self.shelf.branch("main").head, changes, summary)

    def listed(self, **query: Any) -> dict[str, Any]:
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/artifacts"
        found = httpx.get(address, params=query, headers=headers)
        return {"status": found.status_code, **found.json()}

    def paths(self, **query: Any) -> list[str]:
        return [one["path"] for one in self.listed(limit=1000, **query)["items"]]

    def test_sorted_and_filtered(self) -> None:
        known = self.known
        by_size = sorted(known, key=lambda p: (known[p]["size"], p))
        self.assertEqual(self.paths(sort="size"), by_size)
        self.assertEqual(self.paths(sort="-size"), by_size[::-1])
        self.assertEqual(self.paths(sort="version"), sorted(known, key=lambda p: (known[p]["version"], p)))
        order = sorted(known, key=lambda p: (_SUMMARIES.index(known[p]["summary"]), p))
        self.assertEqual(self.paths(sort="when"), order)
        datasets = sorted(p for p in known if known[p]["kind"] == "dataset")
        self.assertEqual(self.paths(kind="dataset"), datasets)
        self.assertEqual(self.paths(kind="dataset", folder="area 1"), [p for p in datasets if p.startswith("area 1/")])
        self.assertEqual(self.paths(kind="dataset", folder="area 1/"), self.paths(kind="dataset", folder="area 1"))
        tides = sorted(p for p in known if "tides" in known[p]["summary"].lower() and "1" in p)
        self.assertEqual(self.paths(words="TIDES 1"), tides)
        self.assertEqual(self.paths(by="owner", words="nothing like it"), [])
        page = self.listed(sort="path", start=10, limit=15)
        self.assertEqual([one["path"] for one in page["items"]], sorted(known)[10:25])
        self.assertEqual((page["total"], page["bytes"]), (len(known), sum(one["size"] for one in known.values())))
        wrong = self.listed(sort="colour")
        self.assertEqual((wrong["status"], wrong["code"]), (400, "input.unknown"))

    def test_by_label_time_and_what_is_edited(self) -> None:
        head = self.shelf.branch("main").head
        first, second, third = sorted(self.known)[:3]
        contents = [ChangeRequest(path, self.shelf.upload(f"# {path}\n".encode()).id) for path in (first, second)]
        message = CommitMessage("Checked", labels={"checked": "yes", "season": "spring"})
        made = self.shelf.commit("main", head, contents, message)
        self.assertEqual(self.paths(label="checked"), [first, second])
        self.assertEqual(self.paths(label="season=spring", kind=self.known[first]["kind"])[0], first)
        self.assertEqual(self.paths(label="season=autumn"), [])
        moment = next(one["recorded"] for one in self.listed(limit=1000)["items"] if one["path"] == first)
        self.assertEqual(self.paths(since=moment), [first, second])
        self.assertEqual(self.paths(since="2001-01-01"), sorted(self.known))
        self.assertEqual(self.listed(since="some day")["status"], 400)
        self.assertEqual(self.paths(state="edited"), [])
        self.shelf.save("main", [Saving(third, self.shelf.upload(b"n = 1\n").id)], made.commit)
        self.assertEqual(self.paths(state="edited"), [third])
        self.assertEqual(self.paths(state="same"), sorted(self.known.keys() - {third}))
        self.shelf.set_member("reader", "reader")
        theirs = self.client_of("reader").shelf(self.shelf.key).artifacts(state="edited")
        self.assertEqual([a.path for a in theirs], [], "each sees their own edits")
        wrong = self.listed(state="edit")
        self.assertEqual((wrong["status"], wrong["code"], "edited" in wrong["hint"]), (400, "input.unknown", True))
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        self.assertEqual([a["path"] for a in terminal.json("browse", "--edited")], [third])
        listed = terminal.json("browse", "--label", "checked", "--since", "2001-01-01")
        self.assertEqual([a["path"] for a in listed], [first, second])

    def test_each_state_has_its_own(self) -> None:
        """A later state is made from an earlier one that is kept, also where it was changed and changed back."""
        before = {}
        for _ in range(12):  # each process of the service that answers keeps its own
            before = self.listed(sort="-when", limit=1000)
        first = sorted(self.known)[0]
        content = self.shelf.artifact(first).content
        self.put({first: b"other\n"}, "Away")
        head = self.shelf.branch("main").head
        self.shelf.commit("main", head, [ChangeRequest(first, content)], "And back")
        self.put({"new.md": b"# New\n", sorted(self.known)[1]: None}, "Newest")
        after = self.listed(sort="-when", limit=1000)
        self.assertEqual([one["path"] for one in after["items"][:2]], ["new.md", first])
        self.assertEqual(after["items"][1]["summary"], "And back")
        self.assertEqual(self.paths(words="and back"), [first])
        self.assertEqual(after["total"], before["total"])
        again = self.listed(sort="-when", limit=1000, ref=f"commit:{before['commit']}")
        self.assertEqual([one["path"] for one in again["items"]], [one["path"] for one in before["items"]])

    def test_effects_come_once_they_are_known(self) -> None:
        first = next(p for p in sorted(self.known) if p.endswith(".csv"))
        self.put({first: b"id\n1\n"}, "A column less")
        for _ in range(12):  # each process of the service that answers keeps its own
            self.listed(sort="effect")
        until(lambda: self.paths(effect="breaks") == [first], "the effect of the newest version is not known")
        until(
            lambda: all(self.paths(sort="effect")[0] == first for _ in range(12)),
            "the order is not that of the effects",
        )

    def test_the_client_and_the_command_line(self) -> None:
        known = self.known
        scripts = sorted((p for p in known if known[p]["kind"] == "script"), key=lambda p: (known[p]["size"], p))
        found = [one.path for one in self.shelf.artifacts(kind="script", sort="size")]
        self.assertEqual(found, scripts)
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        listed = terminal.json("browse", "--kind", "script", "--sort", "size")
        self.assertEqual([one["path"] for one in listed], scripts[::-1])
        inside = terminal.json("browse", "area 1", "--words", "tides")
        tides = [p for p in sorted(known) if p.startswith("area 1/") and "Tides" in known[p]["summary"]]
        self.assertEqual([one["path"] for one in inside], tides)

    def test_a_state_in_short(self) -> None:
        headers = {"Authorization": f"Bearer {self.service.token()}"}
        address = f"{self.service.address}/api/v1/shelves/{self.shelf.key}/summary"
        told = httpx.get(address, headers=headers).json()
        self.assertEqual((told["total"], told["authors"]), (len(self.known), ["owner"]))
        counts = {one["kind"]: one["count"] for one in told["kinds"]}
        kinds = [one["kind"] for one in self.known.values()]
        self.assertEqual(counts, {kind: kinds.count(kind) for kind in set(kinds)})
        newest = [one["summary"] for one in told["kinds"][0]["newest"]]
        self.assertEqual(newest, sorted(newest, key=_SUMMARIES.index, reverse=True))
        self.assertEqual(sum(one["count"] for one in told["folders"]), len(self.known))

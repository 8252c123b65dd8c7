"""From a tag to production and back, through the client."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from everyshelf.client import ProblemError
from tests.support.factories import ServiceCase


class PromotionTests(ServiceCase):
    """Rehearse, put in place, verify, roll back."""

    def setUp(self) -> None:
        super().setUp()
        self.put(
            {"fares.csv": b"id,fare\n1,2\n2,3\n", "flow.json": b'{"steps": [{"id": "a", "next": "b"}, {"id": "b"}]}'}
        )
        self.shelf.make_tag("one")
        self.put({"fares.csv": b"id,fare\n1,2\n2,4\n", "new.txt": b"new", "flow.json": None})
        self.shelf.make_tag("two")
        self.test = self.shelf.make_environment("test", fed_from="main")
        self.shelf.make_environment("production", fed_from="main", earlier_first=True)

    def there(self, name: str = "test") -> dict[str, bytes]:
        folder = next(e.address for e in self.shelf.environments() if e.name == name)
        base = Path(folder) / "now"
        return {str(p.relative_to(base)): p.read_bytes() for p in base.rglob("*") if p.is_file()}

    def promote(self, tag: str, name: str = "test", **options: bool) -> dict[str, object]:
        result = self.shelf.wait(self.shelf.promote(tag, name, **options)).result
        assert result is not None
        return result

    def test_rehearsal_says_what_promotion_does(self) -> None:
        self.promote("one")
        rehearsal = self.shelf.rehearse("two", "test")
        self.assertEqual(rehearsal["counts"], {"added": 1, "changed": 1, "removed": 1, "same": 0})
        fares = next(a for a in rehearsal["artifacts"] if a["path"] == "fares.csv")
        self.assertEqual((fares["state"], fares["headline"], fares["kind"]), ("changed", "1 cell in fare", "dataset"))
        self.assertEqual(set(self.there()), {"fares.csv", "flow.json"})  # nothing was touched
        result = self.promote("two")
        self.assertEqual(result["counts"], {"added": 1, "changed": 1, "removed": 1, "same": 0})
        self.assertEqual(self.there(), {"fares.csv": b"id,fare\n1,2\n2,4\n", "new.txt": b"new"})

    def test_gates_hold_and_let_through(self) -> None:
        with self.assertRaises(ProblemError) as caught:
            self.promote("one", "production")
        self.assertEqual((caught.exception.status, caught.exception.code), (403, "gate.not_met"))
        self.assertIn("promote it to test first", str(caught.exception))
        self.promote("one")
        self.promote("one", "production")
        self.shelf.make_branch("elsewhere")
        self.put({"x.txt": b"x"}, branch="elsewhere")
        self.shelf.make_tag("off-main", "elsewhere")
        gates = self.shelf.rehearse("off-main", "test")["gates"]
        self.assertEqual([(g["gate"], g["met"]) for g in gates], [("from main", False)])

    def test_drift_is_shown_and_not_overwritten_unasked(self) -> None:
        self.promote("one")
        file = Path(self.test.address) / "now" / "fares.csv"
        os.chmod(file, 0o644)
        file.write_bytes(b"id,fare\n1,99\n2,3\n")
        rehearsal = self.shelf.rehearse("two", "test")
        self.assertEqual(
            [(d["path"], d["where"], d["lost"]) for d in rehearsal["drift"]], [("fares.csv", "changed there", True)]
        )
        fares = next(a for a in rehearsal["artifacts"] if a["path"] == "fares.csv")
        self.assertEqual(fares["headline"], "2 cells in fare")  # against what is really there
        with self.assertRaises(ProblemError) as caught:
            self.promote("two")
        self.assertEqual(caught.exception.code, "gate.drift")
        self.promote("two", overwrite_drift=True)
        self.assertEqual(self.there()["fares.csv"], b"id,fare\n1,2\n2,4\n")

    def test_what_a_promotion_is_putting_there_is_no_drift(self) -> None:
        """Asked one after the other without waiting, each sees the work of another one in between."""
        jobs = []
        for number in range(24):
            jobs.append(self.shelf.promote(("one", "two")[number % 2], "test"))
            found = self.looked()
            self.assertEqual([r["where"] for r in found if r["where"]], [], number)
        for job in jobs:
            self.shelf.wait(job)
        self.assertEqual([r["where"] for r in self.looked() if r["where"]], [])

    def test_what_was_read_in_between_is_not_judged(self) -> None:
        code = (
            "from django.db import transaction\n"
            "from everyshelf.service.environments.actions.gates import Gate\n"
            "from everyshelf.service.environments.actions.promotion import _judged_now\n"
            "from everyshelf.service.environments.actions.settled import quiet_since\n"
            "from everyshelf.service.environments.models import Environment\n"
            f"test = Environment.objects.get(shelf__key='{self.shelf.key}', name='test')\n"
            "held = [Gate(name, name, False, '') for name in ('drift', 'loss', 'reviews')]\n"
            "def judge(meanwhile):\n"
            "  if meanwhile: test.deployments.update(state=meanwhile)\n"
            "  return held\n"
            "def told(meanwhile=''): return [g.id for g in _judged_now(test, lambda: judge(meanwhile), list)]\n"
            "print(told())\n"
            "with transaction.atomic():\n"
            "  for state in ('switching', 'switched', 'verified', 'recorded', 'planned', 'staged'):\n"
            "    test.deployments.update(state=state)\n"
            "    print(state, quiet_since(test) is None)\n"
            "  test.deployments.update(state='recorded')\n"
            "  print(told('undone'))\n"
            "  transaction.set_rollback(True)\n"
        )
        self.promote("one")
        self.assertEqual(
            self.service.run_python(code).splitlines(),
            [
                "['drift', 'loss', 'reviews']",
                "switching True",
                "switched True",
                "verified True",
                "recorded False",
                "planned False",
                "staged False",
                "['reviews']",
            ],
        )

    def test_a_switch_between_listing_and_reading_is_nobodys_mistake(self) -> None:
        """Whoever promotes, rehearses or looks lists what is there; one promotion changes a file of the list, the next
        one takes it away before it is read."""
        self.put({"fares.csv": None})
        self.shelf.make_tag("three")
        self.promote("one")
        code = (
            "import time\n"
            "from everyshelf.core.promotion.folder import FolderDestination as Folder\n"
            "from everyshelf.service.environments.actions import promotion, reality, rehearsal, beside\n"
            "from everyshelf.service.environments.models import Environment, Deployment\n"
            "from django.contrib.auth.models import User as Person\n"
            "from everyshelf.service.rights import Caller\n"
            "from everyshelf.service.shelves.models import Tag\n"
            f"test = Environment.objects.get(shelf__key='{self.shelf.key}', name='test')\n"
            f"tags = {{t.name: t for t in Tag.objects.filter(shelf__key='{self.shelf.key}')}}\n"
            "caller = Caller(Person.objects.get(username='owner'))\n"
            "listing, reading, listed, read = Folder.present, Folder.as_file, [], []\n"
            "def promote(name):\n"
            "  planned = promotion.plan_promotion(caller, test, tags[name], '')\n"
            "  while planned.state != 'recorded': time.sleep(0.1), planned.refresh_from_db()\n"
            "def present(self, *rest):\n"
            "  found = listing(self, *rest)\n"
            "  if listed: promote(listed.pop())\n"
            "  return found\n"
            "def as_file(self, path):\n"
            "  if read: promote(read.pop())\n"
            "  return reading(self, path)\n"
            "Folder.present, Folder.as_file = present, as_file\n"
            "for act in (\n"
            "  lambda: promotion.check_promotion(caller, test, tags['two'], overwrite_drift=False, force=False,\n"
            "    reason='', lose=[]),\n"
            "  lambda: promotion.check_roll_back(caller, test, promotion.roll_back_target(test, 2),\n"
            "    overwrite_drift=False, lose=[]),\n"
            "  lambda: rehearsal.rehearse_tag(test, tags['two'])['sentence'],\n"
            "):\n"
            "  listed, read = ['two'], ['three']\n"
            "  print(act(), listed, read)\n"
            "  promote('one')\n"
        )
        found = self.service.run_python(code).splitlines()
        self.assertEqual(
            found,
            [
                "[] [] []",
                "None [] []",
                "tag:two would add 1, change 0 and remove 0 in test. Nothing was changed. [] []",
            ],
        )

    def looked(self) -> list[dict[str, Any]]:
        """What differs there; nothing while that cannot be said."""
        try:
            return list(self.shelf.drift("test")["artifacts"])
        except ProblemError as error:
            self.assertEqual(error.code, "environment.busy")
            return []

    def test_rolling_back_twice_goes_back_two_steps(self) -> None:
        self.put({"third.txt": b"3"})
        self.shelf.make_tag("three")
        for tag in ("one", "two", "three"):
            self.promote(tag)
        for expected in ("two", "one"):
            self.shelf.wait(self.shelf.roll_back("test"))
            current = next(e.current for e in self.shelf.environments() if e.name == "test")
            assert current is not None
            self.assertEqual(current.tag, expected)
        self.assertEqual(set(self.there()), {"fares.csv", "flow.json"})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.roll_back("test")
        self.assertEqual(caught.exception.code, "rollback.none")
        self.assertEqual([d.tag for d in self.shelf.deployments("test")], ["one", "two", "three", "two", "one"])

    def test_tag_with_a_selection_touches_only_that(self) -> None:
        self.promote("one")
        self.shelf.make_tag("only-new", "main", selection=["new.txt"])
        self.assertEqual(
            self.shelf.rehearse("only-new", "test")["counts"], {"added": 1, "changed": 0, "removed": 0, "same": 2}
        )
        self.promote("only-new")
        self.assertEqual(set(self.there()), {"fares.csv", "flow.json", "new.txt"})
        self.assertEqual(self.there()["fares.csv"], b"id,fare\n1,2\n2,3\n")

    def test_environment_is_a_ref(self) -> None:
        self.promote("one")
        self.assertEqual(self.shelf.read("fares.csv", "env:test"), b"id,fare\n1,2\n2,3\n")
        self.assertEqual(self.shelf.compare("env:test", "main").counts, {"new": 1, "edited": 1, "moved": 0, "gone": 1})

    def test_cancelled_promotion_leaves_the_earlier_one(self) -> None:
        self.promote("one")
        big = {f"f{n}.bin": bytes([n % 251]) * 40_000 for n in range(300)}
        self.put({**big})
        self.shelf.make_tag("big")
        job = self.shelf.promote("big", "test")
        self.client.cancel(job.job)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.wait(job)
        self.assertEqual(caught.exception.code, "job.cancelled")
        self.assertEqual(set(self.there()), {"fares.csv", "flow.json"})
        self.assertEqual(self.shelf.deployments("test")[0].state, "undone")
        self.assertEqual(
            [p.name for p in (Path(self.test.address) / "deployed").iterdir() if p.name.endswith(".part")], []
        )
        self.promote("big")
        self.assertEqual(len(self.there()), 302)

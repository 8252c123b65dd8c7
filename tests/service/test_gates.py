"""Gates, bindings and secrets of environments."""

from __future__ import annotations

import hashlib
import json
import os
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from everyshelf.client import ProblemError, ShelfClient
from tests.support.factories import ServiceCase
from tests.support.waiting import until

SECRET = "tern-at-quay-4711"
RULES = b"""
[bindings]
HARBOUR_ROLE = {in = "workflows/*"}
FEED_ADDRESS = {in = "settings/*"}
FEED_TOKEN = {in = "settings/*", secret = true}
SEATS = {in = "settings/*", part = "/group:limits", field = "seats"}
"""


def feeds(**more: Any) -> bytes:
    said = {"address": "https://${FEED_ADDRESS}/tides", "token": "${FEED_TOKEN}", "limits": {"seats": 12}, **more}
    return (json.dumps(said, indent=2) + "\n").encode()


class GatesCase(ServiceCase):
    def setUp(self) -> None:
        super().setUp()
        self.put({"fares.csv": b"id,fare\n1,2\n"})
        self.shelf.make_tag("one")

    def held(self, tag: str = "one", environment: str = "test") -> dict[str, Any]:
        with self.assertRaises(ProblemError) as caught:
            self.shelf.promote(tag, environment)
        self.assertEqual(caught.exception.status, 403)
        return caught.exception.problem

    def promote(self, tag: str = "one", environment: str = "test", **options: Any) -> None:
        self.shelf.wait(self.shelf.promote(tag, environment, **options))

    def there(self, name: str = "test") -> dict[str, bytes]:
        base = Path(self.shelf.environment(name).address) / "now"
        return {str(p.relative_to(base)): p.read_bytes() for p in base.rglob("*") if p.is_file()}

    def person(self, name: str, role: str) -> ShelfClient:
        self.shelf.set_member(name, role)
        return self.client_of(name).shelf(self.shelf.key)


class GateTests(GatesCase):
    """Each refuses with what would satisfy it, and then lets through."""

    def test_only_from_a_guarded_branch(self) -> None:
        self.shelf.make_environment("test", gates={"guarded": True})
        self.assertIn("is on no guarded branch", self.held()["detail"])
        self.shelf.guard_branch("main")
        self.promote()

    def test_reviews_of_others_than_the_author(self) -> None:
        self.shelf.make_environment("test", gates={"reviews": 1})
        keeper = self.person("keeper", "keeper")
        self.shelf.review("one", "test", agrees=True)  # the owner made that commit
        problem = self.held()
        self.assertEqual((problem["code"], problem["gates"][0]["gate"]), ("gate.not_met", "reviews, 0 of 1"))
        self.assertIn("owner made it and does not count; keeper must agree", problem["detail"])
        keeper.review("one", "test", agrees=False, comment="Not before the weekend")
        self.assertIn("keeper is against", self.held()["detail"])
        keeper.review("one", "test", agrees=True)
        self.promote()
        self.put({"fares.csv": b"id,fare\n1,3\n"})
        self.shelf.make_tag("two")
        self.assertIn("reviews, 0 of 1", self.held("two")["detail"])  # another commit takes another word

    def test_checks_that_passed_on_that_very_commit(self) -> None:
        self.shelf.make_environment("test", gates={"checks": ["fare rules"]})
        self.assertIn("everyshelf check record", self.held()["detail"])
        self.shelf.record_check("fare rules", False, "tag:one", comment="1 of 40 failed")
        self.assertIn("1 of 40 failed", self.held()["detail"])
        self.shelf.record_check("fare rules", True, "tag:one", comment="40 of 40")
        self.promote()

    def test_quiet_hours(self) -> None:
        now = datetime.now(UTC)
        around = {"from": f"{now - timedelta(hours=2):%H:%M}", "to": f"{now + timedelta(hours=2):%H:%M}"}
        later = {"from": f"{now + timedelta(hours=2):%H:%M}", "to": f"{now + timedelta(hours=3):%H:%M}"}
        self.shelf.make_environment("test", gates={"quiet": [around]})
        self.assertIn(f"promote after {around['to']}", self.held()["detail"])
        self.shelf.change_environment("test", gates={"quiet": [later]})
        self.promote()
        for wrong in ({"from": "25:00", "to": "1:00"}, {**later, "zone": "Skerry"}, {**later, "days": ["Som"]}):
            with self.subTest(wrong=wrong), self.assertRaises(ProblemError) as caught:
                self.shelf.change_environment("test", gates={"quiet": [wrong]})
            self.assertEqual(caught.exception.code, "environment.quiet")

    def test_no_drift_cannot_be_agreed_away(self) -> None:
        self.shelf.make_environment("test", gates={"drift": True})
        self.promote()
        self._edit("fares.csv", b"id,fare\n1,99\n")
        self.put({"fares.csv": b"id,fare\n1,3\n"})
        self.shelf.make_tag("two")
        with self.assertRaises(ProblemError) as caught:
            self.promote("two", overwrite_drift=True)
        self.assertEqual(caught.exception.code, "gate.drift")
        self.promote("two", force=True, reason="The purser agreed by radio")

    def _edit(self, path: str, data: bytes) -> None:
        file = Path(self.shelf.environment("test").address) / "now" / path
        os.chmod(file, 0o644)
        file.write_bytes(data)

    def test_forcing_takes_the_right_and_a_reason_and_is_recorded(self) -> None:
        self.shelf.make_environment("test", gates={"reviews": 2, "checks": ["fare rules"]})
        keeper = self.person("keeper", "keeper")
        with self.assertRaises(ProblemError) as caught:
            keeper.promote("one", "test", force=True, reason="In a hurry")
        self.assertEqual(caught.exception.code, "rights.role")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.promote("one", "test", force=True)
        self.assertEqual(caught.exception.code, "gate.reason")
        self.promote(force=True, reason="The boat leaves at nine")
        made = self.shelf.deployments("test")[0]
        self.assertEqual([g["gate"] for g in made.forced], ["reviews, 0 of 2", "check fare rules"])
        self.assertEqual(made.reason, "The boat leaves at nine")
        entry = next(e for e in self.shelf.log() if e.act == "promotion.forced")
        self.assertEqual(entry.detail["reason"], "The boat leaves at nine")

    def test_what_an_environment_leaves_out(self) -> None:
        self.put({"tests/a.feature": b"Feature: Fares\n", "notes/x.md": b"x\n", "report.md": b"# Report\n"})
        self.shelf.make_tag("two")
        self.shelf.make_environment("test", left_out={"patterns": ["notes/*"], "kinds": ["tests"]})
        self.promote("two")
        self.assertEqual(set(self.there()), {"fares.csv", "report.md"})
        self.assertEqual(self.shelf.look_for_drift("test"), [])
        by_hand = Path(self.shelf.environment("test").address, "now", "by-hand.feature")
        by_hand.write_bytes(b"Feature: Tides\n")
        self.assertEqual(self.shelf.look_for_drift("test"), [])
        self.promote("two")
        self.assertEqual(set(self.there()), {"fares.csv", "report.md", "by-hand.feature"})

    def test_a_word_nobody_knows_is_said(self) -> None:
        self.shelf.make_environment("test")
        for call in (self.shelf.make_environment, self.shelf.change_environment):
            with self.assertRaises(ProblemError) as caught:
                call("test", fed_form="main")
            self.assertEqual(caught.exception.code, "input.unknown")
            self.assertIn("fed_form", caught.exception.problem["detail"])


class BindingTests(GatesCase):
    """Values that differ per environment."""

    def setUp(self) -> None:
        super().setUp()
        self.put(
            {"shelf.toml": RULES, "settings/feeds.json": feeds(), "workflows/notice.txt": b"ask ${HARBOUR_ROLE}\n"}
        )
        self.shelf.make_tag("bound")
        for name in ("test", "production"):
            self.shelf.make_environment(name)

    def bind_all(self, environment: str, secret: str = SECRET) -> None:
        for name, value in (("HARBOUR_ROLE", "harbour master"), ("FEED_ADDRESS", environment), ("SEATS", "40")):
            self.shelf.bind(environment, name, value)
        self.shelf.bind(environment, "FEED_TOKEN", secret)

    def test_each_environment_has_its_own(self) -> None:
        self.bind_all("test")
        self.bind_all("production", "another-secret-value")
        for name, secret in (("test", SECRET), ("production", "another-secret-value")):
            self.promote("bound", name)
            said = json.loads(self.there(name)["settings/feeds.json"])
            self.assertEqual(said, {"address": f"https://{name}/tides", "token": secret, "limits": {"seats": 40}})
            self.assertEqual(self.there(name)["workflows/notice.txt"], b"ask harbour master\n")
            self.assertEqual(self.shelf.look_for_drift(name), [])
            self.assertEqual(self.shelf.rehearse("bound", name)["counts"]["changed"], 0)

    def test_one_without_a_value_holds_and_cannot_be_forced(self) -> None:
        rehearsal = self.shelf.rehearse("bound", "test")
        self.assertEqual(
            [m["name"] for m in rehearsal["missing_bindings"]], ["FEED_ADDRESS", "FEED_TOKEN", "HARBOUR_ROLE", "SEATS"]
        )
        self.assertIn("4 bindings without a value", rehearsal["sentence"])
        with self.assertRaises(ProblemError) as caught:
            self.shelf.promote("bound", "test", force=True, reason="Now")
        self.assertEqual(caught.exception.code, "binding.missing")
        self.assertIn("everyshelf env bind test", caught.exception.hint)

    def test_a_changed_value_is_rehearsed_and_a_secret_is_not_shown(self) -> None:
        self.bind_all("test")
        self.promote("bound")
        self.shelf.bind("test", "SEATS", "60")
        found = self.shelf.rehearse("bound", "test")["artifacts"]
        self.assertEqual(
            [(a["path"], a["headline"]) for a in found], [("settings/feeds.json", "group limits: seats 40 → 60")]
        )
        self.shelf.bind("test", "FEED_TOKEN", "the-next-secret")
        text = json.dumps(self.shelf.rehearse("bound", "test"))
        for value in (SECRET, "the-next-secret"):
            self.assertNotIn(value, text)

    def test_a_secret_is_nowhere_but_at_its_destination(self) -> None:
        self.bind_all("test")
        self.promote("bound")
        address = Path(self.shelf.environment("test").address)
        file = address / "now/settings/feeds.json"
        self.assertIn(SECRET.encode(), file.read_bytes())
        os.chmod(file, 0o644)
        file.write_bytes(file.read_bytes().replace(b"https", b"wss"))
        answers = [
            self.shelf.bindings("test"),
            self.shelf.environments(),
            self.shelf.deployments("test"),
            self.shelf.rehearse("bound", "test"),
            self.shelf.drift("test"),
            self.shelf.look_for_drift("test"),
            self.shelf.capture("test"),
            self.shelf.log(),
            self.shelf.read("settings/feeds.json", "draft:main").decode(),
        ]
        self.assertNotIn(SECRET, repr(answers))
        self.assertIn('"wss://${FEED_ADDRESS}/tides"', answers[-1])
        self.assertIn('"${FEED_TOKEN}"', answers[-1])
        self.assertNotIn(SECRET, self.service.log())
        # Plain, packed or hashed: nothing in the data folder lets the value be found or tried.
        wanted = [SECRET.encode(), hashlib.sha256(SECRET.encode()).hexdigest().encode()]
        placed = self.there()["settings/feeds.json"].replace(b"wss", b"https")
        wanted += [hashlib.sha256(placed).hexdigest().encode(), hashlib.sha256(placed).digest()]
        for found in self._files(self.service.data, without=address.parents[1]):
            data = found.read_bytes()
            for value in wanted:
                self.assertNotIn(value, data, found)
        kept = "from everyshelf.service.base.context import get_store\nprint(get_store().has({!r}))"
        self.assertEqual(self.service.run_python(kept.format(wanted[2].decode())).strip(), "False")

    @staticmethod
    def _files(folder: Path, without: Path) -> list[Path]:
        return [p for p in folder.rglob("*") if p.is_file() and not p.is_relative_to(without)]

    def test_a_value_set_by_hand_where_a_binding_belongs_does_not_come_back(self) -> None:
        self.bind_all("test")
        self.promote("bound")
        file = Path(self.shelf.environment("test").address) / "now/settings/feeds.json"
        os.chmod(file, 0o644)
        text = file.read_bytes().replace(SECRET.encode(), b"set-by-hand-0815").replace(b"40", b"41")
        file.write_bytes(text.replace(b'"address"', b'"note": "by hand", "address"'))
        found = self.shelf.capture("test")
        self.assertNotIn("set-by-hand-0815", repr(found))
        self.assertIn("FEED_TOKEN", found["artifacts"][0]["message"])
        said = json.loads(self.shelf.read("settings/feeds.json", "draft:main"))
        self.assertEqual(said, {"note": "by hand", **json.loads(feeds())})

    def test_the_key_is_outside_the_data_folder(self) -> None:
        self.bind_all("test")
        key = self.service.data.with_name(f"{self.service.data.name}.key")
        self.assertEqual(key.stat().st_mode & 0o777, 0o600)
        self.assertEqual(list(self.service.data.rglob("*.key")), [])

    def test_once_secret_always_secret_and_taken_back(self) -> None:
        self.shelf.bind("test", "OTHER", "x", secret=True)
        self.shelf.bind("test", "OTHER", "y", secret=False)
        found = {b.name: b for b in self.shelf.bindings("test")}
        self.assertEqual((found["OTHER"].secret, found["OTHER"].set, found["OTHER"].value), (True, True, None))
        self.shelf.unbind("test", "OTHER")
        self.assertNotIn("OTHER", {b.name for b in self.shelf.bindings("test")})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.unbind("test", "OTHER")
        self.assertEqual(caught.exception.code, "binding.missing")
        with self.assertRaises(ProblemError) as caught:
            self.shelf.bind("test", "lower case", "x")
        self.assertEqual(caught.exception.code, "binding.name")

    def test_rolling_back_puts_the_bindings_of_today_in(self) -> None:
        self.bind_all("test")
        self.promote("bound")
        self.put({"settings/feeds.json": feeds(more=1)})
        self.shelf.make_tag("more")
        self.promote("more")
        self.shelf.bind("test", "SEATS", "99")
        self.shelf.wait(self.shelf.roll_back("test"))
        said = json.loads(self.there()["settings/feeds.json"])
        self.assertEqual((said["limits"]["seats"], "more" in said, said["token"]), (99, False, SECRET))


class TrialTests(GatesCase):
    """Trial environments remove themselves."""

    def test_one_whose_time_is_over_is_gone(self) -> None:
        made = self.shelf.make_trial("try-fares", "one", days=1)
        self.promote("one", "try-fares")
        self.assertEqual(set(self.there("try-fares")), {"fares.csv"})
        self.service.run_python(
            "from django.utils import timezone\n"
            "from everyshelf.service.environments.models import Environment\n"
            "Environment.objects.filter(name='try-fares').update(expires=timezone.now())\n"
        )
        until(lambda: "try-fares" not in [e.name for e in self.shelf.environments()], "it stayed")
        self.assertFalse(Path(made.address).exists())
        self.shelf.make_trial("try-fares", "one", days=1)  # the name is free again
        with self.assertRaises(ProblemError) as caught:
            self.shelf.make_trial("try-more", "one", days=900)
        self.assertEqual(caught.exception.code, "environment.days")

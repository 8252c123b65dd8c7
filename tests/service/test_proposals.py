"""Proposals: conflicts before anyone merges, remarks that follow their part, verdicts that lapse, one act."""

from __future__ import annotations

import json
from typing import Any

from everyshelf.client import ChangeRequest, ProblemError, ShelfClient
from tests.support.factories import ServiceCase

FLOW = "flows/load.json"


def flow(*steps: dict[str, Any], name: str = "load") -> bytes:
    return json.dumps({"name": name, "steps": list(steps)}, indent=2).encode()


def step(key: str, **parameters: Any) -> dict[str, Any]:
    return {"id": key, "name": key, "type": "task", "parameters": parameters}


class ProposalCase(ServiceCase):
    """A shelf with a guarded main branch, and somebody of each role."""

    def setUp(self) -> None:
        super().setUp()
        for role in ("keeper", "author", "reader"):
            self.shelf.set_member(role, role)
        self.put({FLOW: flow(step("fetch", timeout=30), step("clean"), step("store"))})
        self.shelf.guard_branch("main")
        self.author, self.keeper, self.reader = (
            self.client_of(p).shelf(self.shelf.key) for p in ("author", "keeper", "reader")
        )
        self.author.make_branch("author/faster")

    def edit(self, branch: str, data: bytes, summary: str = "Faster", by: ShelfClient | None = None) -> None:
        shelf = by or self.author
        content = shelf.upload(data).id
        shelf.commit(branch, shelf.branch(branch).head, [ChangeRequest(FLOW, content)], summary)

    def proposed(self, **options: Any) -> dict[str, Any]:
        self.edit("author/faster", flow(step("fetch", timeout=10), step("clean"), step("store")))
        return self.author.open_proposal("Fetch faster", "author/faster", **options)

    def refused(self, code: str, act: Any, *arguments: Any, **options: Any) -> ProblemError:
        with self.assertRaises(ProblemError) as caught:
            act(*arguments, **options)
        self.assertEqual(caught.exception.code, code, str(caught.exception))
        return caught.exception


class OpeningTests(ProposalCase):
    """What can be asked, and what is told about it."""

    def test_a_proposal_tells_what_holds_it(self) -> None:
        made = self.proposed(reviewers=["keeper"], tasks=["SK-9"])
        self.assertEqual((made["number"], made["state"], made["ahead"], made["behind"]), (1, "open", 1, 0))
        self.assertEqual([h["what"] for h in made["not_met"]], ["agreement"])
        self.assertEqual(made["tasks"], ["SK-9"])
        self.assertFalse(made["may_judge"])
        self.assertFalse(made["may_merge"])
        self.assertTrue(self.keeper.proposal(1)["may_merge"])
        self.assertEqual(made["who_merges"], "keepers")

    def test_there_is_one_open_proposal_for_a_pair_of_branches(self) -> None:
        self.proposed()
        self.refused("proposal.taken", self.author.open_proposal, "Again", "author/faster")
        self.author.change_proposal(1, state="closed", reason="too early")
        self.assertEqual(self.author.open_proposal("Again", "author/faster")["number"], 2)
        self.refused("proposal.taken", self.author.change_proposal, 1, state="open")

    def test_nothing_is_proposed_that_brings_nothing(self) -> None:
        self.refused("proposal.empty", self.author.open_proposal, "Nothing", "author/faster")
        self.refused("proposal.same", self.author.open_proposal, "Itself", "main", "main")
        self.refused("branch.missing", self.author.open_proposal, "None", "no/such")
        self.edit("author/faster", flow(step("fetch")))
        self.refused("input.invalid", self.author.open_proposal, " ", "author/faster")
        self.refused("proposal.own", self.author.open_proposal, "Own", "author/faster", reviewers=["author"])
        self.refused("proposal.reviewers", self.author.open_proposal, "R", "author/faster", reviewers=["reader"])
        self.refused("people.missing", self.author.open_proposal, "R", "author/faster", reviewers=["nobody"])

    def test_others_proposals_are_changed_by_keepers_only(self) -> None:
        self.proposed()
        self.shelf.set_member("stranger", "author")
        other = self.client_of("stranger").shelf(self.shelf.key)
        self.addCleanup(self.shelf.remove_member, "stranger")
        self.refused("rights.role", other.change_proposal, 1, title="Mine")
        self.assertEqual(self.keeper.change_proposal(1, title="Fetch much faster")["title"], "Fetch much faster")

    def test_a_list_says_which_are_open_merged_and_closed(self) -> None:
        self.proposed()
        self.keeper.give_verdict(1, "agree")
        self.keeper.merge_proposal(1)
        self.edit("author/faster", flow(step("fetch", timeout=5), step("clean"), step("store")))
        self.author.open_proposal("Faster still", "author/faster")
        self.author.change_proposal(2, state="closed")
        states = {s: [p["number"] for p in self.author.proposals(s)] for s in ("open", "merged", "closed", "all")}
        self.assertEqual(states, {"open": [], "merged": [1], "closed": [2], "all": [2, 1]})
        self.refused("input.invalid", self.author.proposals, "lost")


class MergingTests(ProposalCase):
    """One act, with conflicts shown before."""

    def test_it_is_merged_in_one_act_with_its_branch_dropped(self) -> None:
        self.proposed(delete_source=True, description="The gate answers quicker now.")
        self.keeper.give_verdict(1, "agree")
        merged = self.keeper.merge_proposal(1)
        self.assertEqual((merged["state"], merged["closed_by"]), ("merged", "keeper"))
        head = next(self.shelf.commits("main", 1))
        self.assertEqual((head.commit, head.summary), (merged["merged"], "Fetch faster"))
        self.assertIn("Agreed: keeper", head.description)
        self.assertIn("The gate answers quicker now.", head.description)
        self.assertNotIn("author/faster", [b.name for b in self.shelf.branches()])
        self.assertIn(b'"timeout": 10', self.shelf.read(FLOW))
        self.refused("proposal.state", self.keeper.merge_proposal, 1)

    def test_conflicts_are_shown_before_anyone_merges_and_settled_on_the_server(self) -> None:
        self.proposed()
        self.edit("main", flow(step("fetch", timeout=60), step("clean"), step("store")), "Slower", self.keeper)
        shown = self.author.proposal(1)
        self.assertEqual([c["path"] for c in shown["conflicts"]], [FLOW])
        self.assertIn("timeout was 30; on main it is 60, on author/faster 10", shown["conflicts"][0]["why"])
        self.assertIsNone(shown["merge"], "looking began a merge")
        self.keeper.give_verdict(1, "agree")
        waiting = self.refused("merge.conflict", self.keeper.merge_proposal, 1).problem["merge"]
        self.assertEqual(self.keeper.proposal(1)["merge"], waiting)
        self.keeper.settle(waiting, [{"path": None, "conflict": None, "take": "source"}])
        self.keeper.finish_merge(waiting)
        self.assertEqual(self.author.proposal(1)["state"], "merged")
        self.assertIn(b'"timeout": 10', self.shelf.read(FLOW))

    def test_what_is_merged_past_the_proposal_is_seen_as_merged(self) -> None:
        self.proposed()
        asked = self.refused("merge.proposed", self.keeper.merge, "author/faster", "main")
        self.assertIn("proposal 1", str(asked))
        self.refused("merge.proposed", self.keeper.merge, "author/faster", "main", reason="  ")
        made = self.keeper.merge("author/faster", "main", reason="the ferry sails at six")
        self.assertIn("the ferry sails at six", next(self.shelf.commits("main", 1)).description)
        self.assertIn("proposal.passed", {e.act for e in self.shelf.log()})
        seen = self.author.proposal(1)
        self.assertEqual((seen["state"], seen["merged"], seen["closed_by"]), ("merged", made.commit, "keeper"))

    def test_who_may_not_commit_to_the_target_does_not_merge(self) -> None:
        self.proposed()
        self.keeper.give_verdict(1, "agree")
        self.refused("rights.role", self.author.merge_proposal, 1)

    def test_judgement_that_holds_is_overruled_only_with_a_reason(self) -> None:
        self.proposed()
        self.keeper.give_verdict(1, "against", "the gate is not ready")
        self.keeper.record_check("gangway", False, "author/faster", comment="2 of 9")
        held = self.refused("proposal.not_ready", self.keeper.merge_proposal, 1)
        self.assertEqual(held.status, 403)
        self.assertEqual({h["what"] for h in held.problem["not_met"]}, {"verdict", "agreement", "check"})
        self.keeper.merge_proposal(1, reason="the season begins tomorrow")
        self.assertIn("Merged anyway: the season begins tomorrow", next(self.shelf.commits("main", 1)).description)

    def test_a_later_check_of_the_same_name_counts(self) -> None:
        self.proposed()
        self.author.record_check("gangway", False, "author/faster")
        self.author.record_check("gangway", True, "author/faster", comment="9 of 9", link="http://127.0.0.1/run/7")
        found = self.author.proposal(1)
        self.assertEqual([(c["name"], c["passed"]) for c in found["checks"]], [("gangway", True)])
        self.assertNotIn("check", [h["what"] for h in found["not_met"]])
        self.assertEqual(self.author.checks("main"), [])
        self.refused("check.name", self.author.record_check, "two\nlines", True)

    def test_a_branch_that_is_gone_holds_it(self) -> None:
        self.proposed()
        self.author.delete_branch("author/faster")
        self.assertIn("branch", [h["what"] for h in self.author.proposal(1)["not_met"]])


class VerdictTests(ProposalCase):
    """They belong to a commit, and lapse when the branch changes by more than looks."""

    def test_a_verdict_lapses_when_the_branch_changes_materially(self) -> None:
        self.proposed()
        self.keeper.give_verdict(1, "agree")
        self.assertEqual(self.author.proposal(1)["not_met"], [])
        self.edit("author/faster", flow(step("fetch", timeout=5), step("clean"), step("store")))
        found = self.author.proposal(1)
        self.assertIn(FLOW, found["verdicts"][0]["lapsed"])
        self.assertEqual([h["what"] for h in found["not_met"]], ["agreement"])

    def test_a_verdict_outlasts_a_change_of_looks(self) -> None:
        self.proposed()
        self.keeper.give_verdict(1, "agree")
        data = json.dumps(json.loads(self.author.read(FLOW, "author/faster"))).encode()
        self.edit("author/faster", data, "On one line")
        self.assertEqual(self.author.proposal(1)["verdicts"][0]["lapsed"], "")

    def test_a_verdict_outlasts_what_comes_in_from_the_target(self) -> None:
        self.proposed()
        self.keeper.give_verdict(1, "agree")
        content = self.keeper.upload(b"id,fare\n1,2\n").id
        change = [ChangeRequest("fares.csv", content)]
        self.keeper.commit("main", self.keeper.branch("main").head, change, "Fares")
        self.author.merge("main", "author/faster")
        self.assertEqual(self.author.proposal(1)["verdicts"][0]["lapsed"], "")

    def test_verdicts_need_words_and_somebody_else(self) -> None:
        self.proposed()
        self.refused("proposal.own", self.author.give_verdict, 1, "agree")
        self.refused("rights.role", self.reader.give_verdict, 1, "agree")
        self.refused("verdict.text", self.keeper.give_verdict, 1, "against")
        self.refused("verdict.unknown", self.keeper.give_verdict, 1, "perhaps")
        seen = self.keeper.proposal(1)["head"]
        self.edit("author/faster", flow(step("fetch", timeout=5), step("clean"), step("store")))
        self.refused("proposal.moved", self.keeper.give_verdict, 1, "agree", commit=seen)
        self.keeper.give_verdict(1, "against", "it was not tried at the gate")
        self.keeper.give_verdict(1, "agree")
        self.assertEqual([v["verdict"] for v in self.author.proposal(1)["verdicts"]], ["agree"])


class RemarkTests(ProposalCase):
    """They stay with their part, wherever it goes."""

    def remarked(self, part: str, path: str = FLOW) -> dict[str, Any]:
        return self.reader.remark(1, "Why so short?", path=path, part=part)["remarks"][-1]

    def place(self) -> dict[str, Any]:
        place: dict[str, Any] = self.author.proposal(1)["remarks"][-1]["now"]
        return place

    def test_a_remark_follows_its_part_to_another_place(self) -> None:
        self.proposed()
        said = self.remarked("/step:fetch")
        self.assertEqual(said["now"], {"path": FLOW, "part": "/step:fetch", "label": "fetch"})
        self.edit("author/faster", flow(step("clean"), step("store"), step("fetch", timeout=10)), "Fetch last")
        self.assertEqual(self.place()["part"], "/step:fetch")

    def test_a_remark_follows_a_part_that_is_renamed(self) -> None:
        self.proposed()
        self.remarked("/step:fetch")
        fetched = {**step("fetch", timeout=10, retries=3, gate="north"), "id": "bring", "name": "bring"}
        before = flow(step("fetch", timeout=10, retries=3, gate="north"), step("clean"), step("store"))
        self.edit("author/faster", before, "More of it")
        self.remarked("/step:fetch")
        self.edit("author/faster", flow(fetched, step("clean"), step("store")), "Renamed")
        self.assertEqual(self.place()["part"], "/step:bring")

    def test_a_remark_says_when_its_part_is_gone(self) -> None:
        self.proposed()
        self.remarked("/step:store")
        self.edit("author/faster", flow(step("fetch", timeout=10), step("clean")), "Store nothing")
        self.assertEqual((self.place()["path"], self.place()["part"]), (FLOW, None))

    def test_a_remark_follows_an_artifact_that_moves(self) -> None:
        self.proposed()
        self.remarked("/step:fetch")
        content = self.author.artifact(FLOW, "author/faster").content
        moved = [ChangeRequest("nightly/load.json", content, FLOW)]
        self.author.commit("author/faster", self.author.branch("author/faster").head, moved, "Nightly")
        self.assertEqual(self.place(), {"path": "nightly/load.json", "part": "/step:fetch", "label": "fetch"})

    def test_remarks_are_answered_and_dealt_with(self) -> None:
        self.proposed()
        said = self.remarked("")
        self.author.remark(1, "Because the gate is quick.", answer_to=said["id"])
        found = self.author.settle_remark(1, said["id"])
        self.assertEqual([a["text"] for a in found["remarks"][0]["answers"]], ["Because the gate is quick."])
        self.assertEqual((found["remarks"][0]["settled_by"], found["remarks_open"]), ("author", 0))
        self.refused("remark.answer", self.author.settle_remark, 1, found["remarks"][0]["answers"][0]["id"])
        self.refused("remark.missing", self.author.settle_remark, 1, "nothing")
        self.refused("input.invalid", self.author.remark, 1, "  ")
        self.refused("artifact.missing", self.author.remark, 1, "x", path="no/such")
        self.refused("remark.path", self.author.remark, 1, "x", part="/step:fetch")


class ConditionTests(ProposalCase):
    """A condition keeps a proposal from being merged until it is met."""

    def test_it_is_listed_until_it_is_met(self) -> None:
        self.proposed()
        self.keeper.give_verdict(1, "agree")
        found = self.keeper.remark(1, "Tell the harbours first.", condition=True)
        self.assertEqual(
            [(one["what"], "Tell the harbours" in one["message"]) for one in found["not_met"]], [("condition", True)]
        )
        self.refused("proposal.not_ready", self.keeper.merge_proposal, 1)
        condition = found["remarks"][0]["id"]
        self.assertEqual(sorted(self.waits("author")), ["answer", "fix"])
        self.refused("proposal.own", self.author.settle_remark, 1, condition)
        self.assertEqual(self.keeper.settle_remark(1, condition)["not_met"], [])
        self.assertEqual(self.keeper.merge_proposal(1)["state"], "merged")

    def test_who_may_not_give_a_verdict_sets_no_condition(self) -> None:
        self.proposed()
        self.refused("rights.role", self.reader.remark, 1, "Wait.", condition=True)
        own = self.author.remark(1, "I look at the tides again first.", condition=True)["remarks"][0]
        self.assertEqual(self.author.settle_remark(1, own["id"])["remarks_open"], 0)
        answer = self.keeper.remark(1, "Do.", answer_to=own["id"], condition=True)["remarks"][0]["answers"][0]
        self.assertFalse(answer["condition"], "an answer is not a condition")

    def waits(self, person: str) -> list[str]:
        return [w["what"] for w in self.client_of(person).waiting() if w["shelf"] == self.shelf.key]


class WaitingTests(ProposalCase):
    """What waits for whom."""

    def waits(self, person: str) -> list[str]:
        return [w["what"] for w in self.client_of(person).waiting() if w["shelf"] == self.shelf.key]

    def test_a_verdict_waits_until_it_is_given_and_again_when_it_lapses(self) -> None:
        self.proposed(reviewers=["keeper"])
        self.assertEqual(self.waits("keeper"), ["verdict"])
        self.keeper.give_verdict(1, "agree")
        self.assertEqual(self.waits("keeper"), [])
        self.edit("author/faster", flow(step("fetch", timeout=5), step("clean"), step("store")))
        self.assertEqual(self.waits("keeper"), ["verdict"])

    def test_remarks_and_refusals_wait_for_who_opened_it(self) -> None:
        self.proposed()
        self.assertEqual(self.waits("author"), [])
        said = self.reader.remark(1, "Why?")["remarks"][0]["id"]
        self.assertEqual(self.waits("author"), ["answer"])
        self.author.remark(1, "Therefore.", answer_to=said)
        self.keeper.give_verdict(1, "against", "after the season")
        self.assertEqual(self.waits("author"), ["fix"])

    def test_a_merge_one_began_waits_to_be_settled(self) -> None:
        self.proposed()
        self.edit("main", flow(step("fetch", timeout=60), step("clean"), step("store")), "Slower", self.keeper)
        self.refused("merge.conflict", self.keeper.merge, "author/faster", "main", reason="no time to ask")
        self.assertEqual(self.waits("keeper"), ["settle"])
        self.assertEqual(self.waits("reader"), [])

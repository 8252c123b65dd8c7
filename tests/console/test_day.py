"""Ten tasks of a working day, by mouse and by keyboard alone, with the clicks and keys each takes."""

from __future__ import annotations

import json
import tempfile
from pathlib import Path

from everyshelf.client import ChangeRequest
from tests.console.test_console import ConsoleCase
from tests.support import figures
from tests.support.hands import Keyboard, Mouse

_FLOW = {"steps": [{"id": "weigh", "when": "load > 3"}, {"id": "sail", "after": ["weigh"]}]}


class DayTests(ConsoleCase):
    """Each task begins on the shelf's first page."""

    def both(self, task: str, most_clicks: int, most_keys: int) -> None:
        """Do a task with either hand, each on a shelf of its own, and count."""
        counted = []
        for hand in (Mouse(self.browser), Keyboard(self.browser)):
            self.shelf = self.make_shelf()
            getattr(self, f"prepare_{task}", lambda: None)()
            self.page()
            self.browser.see("Artifacts")
            getattr(self, f"do_{task}")(hand)
            counted.append(hand)
        mouse, keyboard = counted
        figures.say(
            f"{task.replace('_', ' ')}: {mouse.clicks} clicks and {mouse.keys} letters; {keyboard.keys} keys without a mouse"
        )
        self.assertLessEqual(mouse.clicks, most_clicks)
        self.assertEqual(keyboard.clicks, 0)
        self.assertLessEqual(keyboard.keys, most_keys)

    # --- bring in a folder ---

    def test_300_files_are_brought_in(self) -> None:
        self.both("bring_in_files", 3, 90)

    def do_bring_in_files(self, hand: Mouse) -> None:
        with tempfile.TemporaryDirectory() as folder:
            files = [Path(folder, f"part-{n:03}.csv") for n in range(300)]
            for n, file in enumerate(files):
                file.write_text(f"id,n\n1,{n}\n")
            hand.press("Add files")
            self.browser.field("Files to send").send_keys(
                "\n".join(map(str, files))
            )  # chosen in the system's own window
            self.browser.see("300 artifacts pending")
        hand.write("Summary", "Parts of spring")
        hand.press("Commit 300 artifacts")
        self.browser.wait_for(lambda: len(list(self.shelf.artifacts())) == 300)

    # --- who changed a condition ---

    def test_who_changed_a_condition_is_found(self) -> None:
        self.both("find_who_changed_it", 4, 90)

    def prepare_find_who_changed_it(self) -> None:
        self.put({"flow.json": json.dumps(_FLOW).encode()}, "First")
        self.put({"flow.json": json.dumps(_FLOW).replace("> 3", "> 5").encode()}, "Heavier loads")

    def do_find_who_changed_it(self, hand: Mouse) -> None:
        hand.open_artifact("flow.json")
        hand.press("Origins")
        hand.press("when")
        self.browser.see("2 forms in 2 versions")
        self.browser.see("Heavier loads")

    # --- undo one commit ---

    def test_one_commit_is_undone(self) -> None:
        self.both("undo_a_commit", 4, 90)

    def prepare_undo_a_commit(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\nZ2,5\n"}, "Fares")
        self.wrong = self.put({"fares.csv": b"zone,fare\nZ1,4\nZ2,7\n"}, "Dearer").commit
        self.put({"notes.md": b"# Notes\n"}, "Notes")

    def do_undo_a_commit(self, hand: Mouse) -> None:
        hand.visit("History")
        hand.press(self.wrong[:8])
        hand.press("Undo this commit")
        hand.press("Undo", "[role=dialog]")
        self.browser.see("“Undo “Dearer””")
        self.assertEqual(self.shelf.read("fares.csv"), b"zone,fare\nZ1,4\nZ2,5\n")

    # --- review and merge a proposal with a conflict ---

    def test_a_proposal_with_a_conflict_is_merged(self) -> None:
        self.both("merge_a_proposal_with_a_conflict", 6, 160)

    def prepare_merge_a_proposal_with_a_conflict(self) -> None:
        self.put({"notes.md": b"# Quiet hours\n\nfrom ten\n"})
        self.shelf.make_branch("later")
        self.put({"notes.md": b"# Quiet hours\n\nfrom eleven\n"}, "Later", "later")
        self.put({"notes.md": b"# Quiet hours\n\nfrom nine\n"}, "Earlier")
        self.shelf.open_proposal("Quiet hours begin later", "later")

    def do_merge_a_proposal_with_a_conflict(self, hand: Mouse) -> None:
        hand.visit("Proposals")
        hand.press("Quiet hours begin later")
        hand.press("Settle and merge")
        hand.press("Settle them")
        hand.press("Take later for all")
        self.browser.see("1 of 1 settled")
        hand.press("Commit merge")
        self.browser.wait_for(lambda: self.shelf.proposal(1)["state"] == "merged")
        self.assertEqual(self.shelf.read("notes.md"), b"# Quiet hours\n\nfrom eleven\n")

    # --- compare a branch from where it parted ---

    def test_a_branch_is_compared_from_where_it_parted(self) -> None:
        self.both("compare_a_branch", 2, 80)

    def prepare_compare_a_branch(self) -> None:
        self.put({"fares.csv": b"zone,fare\nZ1,4\n", "notes.md": b"# Notes\n"})
        self.shelf.make_branch("dearer")
        self.put({"fares.csv": b"zone,fare\nZ1,5\n"}, "Dearer", "dearer")
        self.put({"notes.md": b"# More notes\n"}, "On main meanwhile")

    def do_compare_a_branch(self, hand: Mouse) -> None:
        hand.visit("Branches and tags")
        hand.press("Compare", "section[aria-label=Branches]")
        self.browser.see("1 artifact edited")
        self.assertNotIn("notes.md", " ".join(self.browser.texts("main table")))

    # --- roll back ---

    def test_an_environment_is_rolled_back(self) -> None:
        self.both("roll_back", 4, 90)

    def prepare_roll_back(self) -> None:
        self.shelf.make_environment("live")
        for tag, fare in (("one", 4), ("two", 9)):
            self.put({"fares.csv": f"zone,fare\nZ1,{fare}\n".encode()}, f"Fare {fare}")
            self.shelf.make_tag(tag)
            self.shelf.wait(self.shelf.promote(tag, "live"))

    def do_roll_back(self, hand: Mouse) -> None:
        hand.visit("Environments")
        hand.press("Roll back")
        hand.write("Reason", "Too dear")
        hand.press("Roll back now")
        self.browser.see("Deployment 3 is done")
        folder = Path(self.shelf.environments()[0].address)
        self.assertEqual((folder / "now/fares.csv").read_bytes(), b"zone,fare\nZ1,4\n")
        self.assertEqual(self.shelf.deployments("live")[0].reason, "Too dear")

    # --- page 900 of a table sorted by a column ---

    def test_page_900_of_a_sorted_table_is_read(self) -> None:
        self.both("read_page_900_of_a_sorted_table", 4, 120)

    def prepare_read_page_900_of_a_sorted_table(self) -> None:
        rows = "".join(f"{n},{(n * 7919) % 100_003}\n" for n in range(90_000))
        self.put({"fares.csv": f"ticket,paid\n{rows}".encode()})

    def do_read_page_900_of_a_sorted_table(self, hand: Mouse) -> None:
        hand.open_artifact("fares.csv")
        self.browser.see("90\u202f000 rows, 2 columns")
        hand.head("paid")
        self.browser.wait_for(lambda: "sort=paid" in self.browser.driver.current_url)
        hand.write("Go to row", "89901")
        hand.submit()
        self.browser.see("89,901–90,000 of 90,000")
        order = sorted(((n * 7919) % 100_003, n) for n in range(90_000))
        self.browser.wait_for(
            lambda: self.browser.texts("[role=gridcell][data-field=ticket]")[:1] == [str(order[89_900][1])]
        )

    # --- adopt an experiment ---

    def test_an_experiment_is_adopted(self) -> None:
        self.both("adopt_an_experiment", 4, 90)

    def prepare_adopt_an_experiment(self) -> None:
        self.put({"model.json": b'{"depth": 4}'})
        self.shelf.begin_experiment("Does depth cut the error?", key="depth", branch="try")
        made = self.put({"model.json": b'{"depth": 6}'}, "Deeper", "try")
        self.shelf.record_run("depth", "try", made.commit, parameters={"depth": 6}, metrics={"error": 3.4})

    def do_adopt_an_experiment(self, hand: Mouse) -> None:
        hand.visit("Experiments")
        hand.press("Does depth cut the error?")
        hand.press("Adopt try")
        hand.press("Open the proposal")
        self.browser.wait_for(lambda: self.shelf.experiment("depth")["state"] == "adopted")

    # --- invite a colleague ---

    def test_a_colleague_is_invited(self) -> None:
        self.both("invite_a_colleague", 6, 80)

    def do_invite_a_colleague(self, hand: Mouse) -> None:
        hand.visit("People")
        hand.press("Invite a person")
        hand.write("Recipient (note for yourself)", "the mate")
        hand.choose("Role", "keeper: also commits and merges to guarded branches, tags, promotes")
        hand.press("Make the invitation")
        link = self.browser.field("Link of the invitation").get_attribute("value") or ""
        self.assertIn("/join#join_", link)

    # --- what happened this week ---

    def test_what_happened_this_week_is_seen(self) -> None:
        self.both("see_what_happened", 3, 60)

    def prepare_see_what_happened(self) -> None:
        content = self.shelf.upload(b"# Notes\n").id
        self.shelf.commit("main", None, [ChangeRequest("notes.md", content)], "Notes of today")
        self.shelf.make_tag("spring")

    def do_see_what_happened(self, hand: Mouse) -> None:
        hand.choose("Changed", "in 7 days")
        self.browser.see("Notes of today")
        hand.visit("Log")
        self.browser.see("spring")

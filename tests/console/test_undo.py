"""What was done can be undone where it was done; what cannot be undone is asked about first."""

from __future__ import annotations

from selenium.webdriver.common.keys import Keys

from everyshelf.client import ChangeRequest, Saving
from tests.console.test_console import ConsoleCase


class UndoTests(ConsoleCase):
    """The note that says what was done, with its way back; questions with consequences."""

    def undo(self) -> None:
        self.browser.press("Undo", within=".done")
        self.browser.see("Undone.")

    def draft(self) -> dict[str, str | None]:
        return {entry.path: entry.content for draft in self.shelf.drafts() for entry in draft.entries}

    def test_draft(self) -> None:
        head = self.put({"a.csv": b"id\n1\n", "b.csv": b"id\n1\n"}).commit
        edited = self.shelf.upload(b"id\n2\n").id
        self.shelf.save("main", [Saving("a.csv", edited)], head)
        self.page("/pending")
        self.browser.press("Discard")
        self.browser.see("a.csv is discarded.")
        self.assertEqual(self.draft(), {})
        self.undo()
        self.assertEqual(self.draft(), {"a.csv": edited})
        for path, before in (("a.csv", {"a.csv": edited}), ("b.csv", {"a.csv": edited})):
            self.page(f"/artifact?path={path}")
            self.browser.press("Remove")
            self.browser.see(f"{path} is removed in your draft")
            self.assertIsNone(self.draft()[path])
            self.undo()
            self.assertEqual(self.draft(), before, "what was saved before is there again, and nothing else")

    def test_branch_and_its_guard(self) -> None:
        self.put({"a.csv": b"id\n1\n"})
        self.shelf.make_branch("owner/trial", "main", "dearer fares")
        content = self.shelf.upload(b"id\n2\n").id
        head = self.shelf.commit(
            "owner/trial", self.shelf.branch("main").head, [ChangeRequest("a.csv", content)], "Two"
        ).commit
        self.page("/branches")
        self.browser.press("Delete")
        self.browser.see("1 commit of it is not in main.")
        self.browser.press("Cancel", within="[role=dialog]")
        self.assertEqual(len(self.shelf.branches()), 2, "nothing is done before it is confirmed")
        self.browser.wait_for(lambda: not self.browser.texts("[role=dialog]"))
        self.browser.press("Delete")
        self.browser.press("Delete the branch")
        self.browser.see("Branch owner/trial is deleted.")
        self.assertEqual([one.name for one in self.shelf.branches()], ["main"])
        self.undo()
        again = self.shelf.branch("owner/trial")
        self.assertEqual((again.head, again.note), (head, "dearer fares"))
        self.browser.press("Guard", within="section[aria-label=Branches] tbody")
        self.browser.see("guarded now.")
        self.undo()
        self.assertEqual([one.name for one in self.shelf.branches() if one.guarded], [])

    def test_restored_state(self) -> None:
        first = self.put({"a.csv": b"id\n1\n"}, "One").commit
        self.put({"a.csv": b"id\n2\n"}, "Two")
        self.page(f"/commit/{first}")
        self.browser.press("Restore this state")
        self.browser.press("Restore", within="[role=dialog]")
        self.browser.see("Restored on main.")
        self.assertEqual(self.shelf.read("a.csv"), b"id\n1\n")
        self.undo()
        self.assertEqual(self.shelf.read("a.csv"), b"id\n2\n")

    def test_roles_and_tokens(self) -> None:
        self.shelf.set_member("reader", "reader")
        self.page("/people")
        self.browser.press("Remove from shelf")
        self.browser.see("can no longer open it")
        self.browser.press("Remove reader")
        self.browser.see("reader has no role here now.")
        self.undo()
        self.assertEqual({one.person: one.role for one in self.shelf.members()}["reader"], "reader")
        with self.service.client() as client:
            client.make_token("for this test", ["read"])
            self.browser.open(f"{self.service.address}/tokens")
            self.browser.press("Revoke for this test")
            self.browser.see("cannot be used again")
            self.assertEqual(self.browser.axe(), [])
            self.browser.press("Revoke the token")
            self.browser.wait_for(lambda: "for this test" not in [one.name for one in client.tokens()])

    def test_bindings(self) -> None:
        rules = b'[bindings]\nROLE = {in = "a.json"}\nTOKEN = {in = "a.json", secret = true}\n'
        self.put({"shelf.toml": rules, "a.json": b'{"to": "${ROLE}", "token": "${TOKEN}"}'})
        self.shelf.make_environment("quay")
        self.page("/environments?env=quay&panel=bindings")

        def values() -> dict[str, tuple[bool, str | None]]:
            return {one.name: (one.set, one.value) for one in self.shelf.bindings("quay")}

        def give(name: str, value: str) -> None:
            self.browser.type_into(f"New value of {name}", value)
            self.browser.press("Set", f"tr:has([aria-label='New value of {name}'])")
            self.browser.see(f"{name} has a new value.")

        give("ROLE", "purser")
        self.assertEqual(values()["ROLE"], (True, "purser"))
        self.undo()
        self.assertFalse(values()["ROLE"][0])
        self.shelf.bind("quay", "ROLE", "purser")
        self.page("/environments?env=quay&panel=bindings")
        give("ROLE", "mate")
        self.undo()
        self.assertEqual(values()["ROLE"], (True, "purser"))
        self.shelf.bind("quay", "TOKEN", "a-secret-4711")
        self.page("/environments?env=quay&panel=bindings")
        give("TOKEN", "another")
        self.assertEqual(
            self.browser.texts(".done button"), ["Close"], "what it was cannot be read, and so not put back"
        )

    def test_proposals(self) -> None:
        self.put({"a.csv": b"id\n1\n"})
        for name in ("one", "two"):
            self.shelf.make_branch(name)
            self.put({f"{name}.csv": b"id\n2\n"}, name, branch=name)
            self.shelf.open_proposal(f"About {name}", name)
        self.page("/proposals/1")
        self.browser.press("Merge into main")
        self.browser.press("Merge", within="[role=dialog]")
        self.browser.see("Proposal 1 is merged into main.")
        self.assertIn("one.csv", [one.path for one in self.shelf.artifacts()])
        self.undo()
        self.assertEqual([one.path for one in self.shelf.artifacts()], ["a.csv"])
        self.browser.see("Its commit")
        self.page("/proposals/2")
        self.browser.press("Close without merging")
        self.browser.press("Close the proposal")
        self.browser.see("Proposal 2 is closed.")
        self.undo()
        self.assertEqual(self.shelf.proposal(2)["state"], "open")

    def test_environment_without_deployments(self) -> None:
        self.shelf.make_environment("quay")
        self.page("/environments?env=quay&panel=settings")
        self.browser.press("Remove this environment")
        self.browser.see("Nothing was deployed there")
        self.browser.press("Remove it")
        self.browser.see("quay is removed.")
        self.assertEqual(self.shelf.environments(), [])
        self.assertNotIn("environment.changed", [entry.act for entry in self.shelf.log()])


class CommittingTests(ConsoleCase):
    """What a commit is for, and what the page says once it is made."""

    def test_tasks_labels_and_what_stays(self) -> None:
        head = self.put({"a.csv": b"id\n1\n", "b.csv": b"id\n1\n"}).commit
        content = self.shelf.upload(b"id\n2\n").id
        self.shelf.save("main", [Saving("a.csv", content), Saving("b.csv", content)], head)
        self.page("/pending")
        self.browser.type_into("Summary", "Dearer")
        self.browser.press("Tasks and labels")
        self.browser.field("Tasks").send_keys("SK-7, SK-8,")
        self.browser.field("Labels").send_keys("checked,")
        self.browser.see("“checked” has no value")
        self.assertFalse(self.browser.button("Commit 2 artifacts").is_enabled())
        self.browser.field("Labels").send_keys(Keys.BACKSPACE)
        self.browser.field("Labels").send_keys("checked=yes")
        self.browser.field("Commit b.csv").click()
        self.assertEqual(self.browser.axe(), [])
        self.browser.press("Commit 1 artifact")
        self.browser.see("is on main with 1 artifact. 1 artifact stays pending.")
        made = next(self.shelf.commits())
        self.assertEqual(
            (made.summary, made.labels, sorted(made.tasks)), ("Dearer", {"checked": "yes"}, ["SK-7", "SK-8"])
        )
        self.browser.press("See the commit")
        self.browser.see("“Dearer”")

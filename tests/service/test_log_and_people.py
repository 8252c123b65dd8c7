"""Who did what, for good; inviting people; editing and drafts as they are seen by the interface."""

from __future__ import annotations

import sqlite3

from everyshelf.client import Client, ProblemError, Saving
from tests.support.factories import ServiceCase
from tests.support.service import PASSWORD


class LogTests(ServiceCase):
    """An append-only record."""

    def told(self, **options: str) -> list[tuple[str, str, str]]:
        return [(e.person, e.act, e.subject) for e in self.shelf.log(**options)]

    def test_every_act_is_there_in_order_with_the_token_it_was_done_with(self) -> None:
        self.put({"a.txt": b"1"}, "First")
        self.shelf.make_branch("try")
        self.shelf.make_tag("one")
        self.shelf.set_member("reader", "author")
        self.shelf.guard_branch("main")
        self.shelf.delete_branch("try")
        acts = [act for _, act, _ in self.told()]
        self.assertEqual(
            acts,
            ["branch.deleted", "branch.guarded", "member.set", "tag.made", "branch.made", "commit.made", "shelf.made"],
        )
        self.assertTrue(next(self.shelf.log(limit=1)).via.startswith("test "))
        self.assertEqual(
            self.told(act="branch"),
            [("owner", f"branch.{a}", s) for a, s in (("deleted", "try"), ("guarded", "main"), ("made", "try"))],
        )
        self.assertEqual(self.told(person="reader"), [])
        with self.assertRaises(ProblemError) as caught:
            self.told(act="nonsense")
        self.assertEqual(caught.exception.code, "log.act")

    def test_pages_hold_every_entry_once(self) -> None:
        for n in range(7):
            self.shelf.make_branch(f"b{n}")
        whole = [e.entry for e in self.shelf.log()]
        self.assertEqual(len(whole), 8)
        paged, before = [], None
        while True:
            page = self.shelf._transport.get(f"shelves/{self.shelf.key}/log", dict, limit=3, before=before)
            paged += [e["entry"] for e in page["items"]]
            before = page["next"]
            if before is None:
                break
        self.assertEqual(paged, whole)

    def test_the_records_themselves_refuse_to_forget(self) -> None:
        self.put({"a.txt": b"1"})
        with sqlite3.connect(self.service.data / "records.sqlite", timeout=20) as records:
            for statement in ("UPDATE log_logentry SET person = 'nobody'", "DELETE FROM log_logentry"):
                with self.assertRaisesRegex(sqlite3.DatabaseError, "append-only"):
                    records.execute(statement)

    def test_what_is_refused_is_not_told_as_done(self) -> None:
        self.shelf.set_member("author", "author")
        before = len(self.told())
        author = self.client_of("author").shelf(self.shelf.key)
        for act in (
            lambda: author.make_tag("x"),
            lambda: author.set_member("reader", "owner"),
            lambda: author.make_branch("a b"),
        ):
            with self.assertRaises(ProblemError):
                act()
        self.assertEqual(len(self.told()), before)

    def test_one_sees_ones_own_acts_everywhere(self) -> None:
        reader = self.client_of("reader")
        reader.make_token("for the log", ["read"], 1)
        reader.revoke_token("for the log")
        acts = [(e.act, e.subject) for e in reader.log(limit=2)]
        self.assertEqual(acts, [("token.revoked", "for the log"), ("token.made", "for the log")])
        self.assertEqual({e.person for e in reader.log(limit=50)}, {"reader"})


class InvitationTests(ServiceCase):
    """Whoever holds the secret joins, once."""

    def anonymous(self) -> Client:
        client = Client(self.service.address)
        self.addCleanup(client.close)
        return client

    def test_somebody_new_joins_with_the_role_once(self) -> None:
        made = self.shelf.invite("author", "the new mate", 3)
        name = f"mate-{made.id}"
        seen = self.anonymous().look_at_invitation(made.value)
        self.assertEqual((seen.shelf, seen.role), (self.shelf.key, "author"))
        self.anonymous().accept_invitation(made.value, name, "The Mate", PASSWORD)
        self.assertIn((name, "author"), [(m.person, m.role) for m in self.shelf.members()])
        self.assertEqual(next(i for i in self.shelf.invitations() if i.id == made.id).accepted_by, name)
        with self.assertRaises(ProblemError) as caught:
            self.anonymous().accept_invitation(made.value, f"{name}2", "Another", PASSWORD)
        self.assertEqual(caught.exception.code, "invitation.used")
        with self.service.client(name) as joined:
            self.assertEqual(joined.shelf(self.shelf.key).info().role, "author")

    def test_a_stronger_role_that_is_held_stays(self) -> None:
        self.shelf.set_member("keeper", "keeper")
        self.client_of("keeper").accept_invitation(self.shelf.invite("reader").value)
        self.assertIn(("keeper", "keeper"), [(m.person, m.role) for m in self.shelf.members()])

    def test_withdrawn_ended_and_unknown_ones_are_worth_nothing(self) -> None:
        made = self.shelf.invite("reader")
        self.shelf.withdraw_invitation(made.id)
        ended = self.shelf.invite("reader")
        with sqlite3.connect(self.service.data / "records.sqlite", timeout=20) as records:
            records.execute("UPDATE people_invitation SET expires = '2020-01-01 00:00:00' WHERE uid = ?", (ended.id,))
        for value, code in ((made.value, "missing"), (ended.value, "expired"), ("join_guess", "missing")):
            with self.assertRaises(ProblemError) as caught:
                self.anonymous().look_at_invitation(value)
            self.assertEqual(caught.exception.code, f"invitation.{code}")
        states = {i.id: i.state for i in self.shelf.invitations()}
        self.assertEqual((states[made.id], states[ended.id]), ("withdrawn", "expired"))

    def test_a_refused_name_leaves_the_invitation_open(self) -> None:
        made = self.shelf.invite("reader")
        for name, password, code in (("owner", PASSWORD, "people.taken"), ("new-one", "short", "people.password")):
            with self.assertRaises(ProblemError) as caught:
                self.anonymous().accept_invitation(made.value, name, "", password)
            self.assertEqual(caught.exception.code, code)
        self.assertEqual(next(i for i in self.shelf.invitations() if i.id == made.id).state, "open")

    def test_no_secret_lies_in_the_records(self) -> None:
        made = self.shelf.invite("reader")
        for file in self.service.data.glob("records.sqlite*"):
            self.assertNotIn(made.value.encode(), file.read_bytes())
        with self.assertRaises(ProblemError) as caught:
            self.shelf.invite("reader", days=400)
        self.assertEqual(caught.exception.code, "invitation.days")

    def test_leaving_and_the_last_owner(self) -> None:
        self.shelf.set_member("reader", "reader")
        self.client_of("reader").shelf(self.shelf.key).remove_member("reader")
        for person, code in (("reader", "people.no_member"), ("owner", "people.last_owner")):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.remove_member(person)
            self.assertEqual(caught.exception.code, code)

    def test_an_open_shelf_is_read_by_all_and_written_by_members(self) -> None:
        self.put({"a.txt": b"1"})
        stranger = self.client_of("stranger").shelf(self.shelf.key)
        with self.assertRaises(ProblemError):
            stranger.info()
        self.assertTrue(self.shelf.change(open_to_all=True, name="Open one").open_to_all)
        self.assertEqual((stranger.info().name, stranger.read("a.txt")), ("Open one", b"1"))
        with self.assertRaises(ProblemError) as caught:
            stranger.upload(b"2")
        self.assertEqual(caught.exception.status, 403)


class EditingTests(ServiceCase):
    """By field, by cell, as text, and looked at as a draft."""

    def test_an_edit_goes_into_the_draft_and_is_compared_there(self) -> None:
        data = b'{"name": "load", "steps": [{"id": "fetch", "run": "f.py",  "timeout": 30}]}\n'
        self.put({"flow.json": data})
        made = self.shelf.edit_content(
            "flow.json",
            self.shelf.artifact("flow.json").content,
            parts=[{"part": "/step:fetch", "field": "timeout", "value": 45}],
        )
        self.shelf.save("main", [Saving("flow.json", made.id, onto=0)])
        self.assertEqual(self.shelf.read("flow.json", "draft:main"), data.replace(b"30", b"45"))
        self.assertEqual(self.shelf.read("flow.json", "main"), data)
        found = self.shelf.compare_artifact("flow.json", "main", "draft")
        self.assertEqual([(f.field, f.before, f.after) for f in found.findings], [("timeout", 30, 45)])
        self.assertEqual(self.shelf.compare("main", "draft:main").counts["edited"], 1)

    def test_save_points_are_compared_with_one_another(self) -> None:
        self.put({"a.json": b'{"n": 1}'})
        for n in (2, 3):
            self.shelf.save("main", [Saving("a.json", self.shelf.upload(b'{"n": %d}' % n).id)])
        found = self.shelf.compare_artifact("a.json", "draft:main@1", "draft:main@2")
        self.assertEqual([(f.before, f.after) for f in found.findings], [(2, 3)])
        for ref, code in (
            ("draft:main@9", "draft.point"),
            ("draft:main@x", "ref.invalid"),
            ("draft:none", "branch.missing"),
        ):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.read("a.json", ref)
            self.assertEqual(caught.exception.code, code)

    def test_nobody_else_sees_a_draft(self) -> None:
        self.put({"a.json": b'{"n": 1}'})
        self.shelf.set_member("keeper", "keeper")
        self.shelf.save("main", [Saving("a.json", self.shelf.upload(b'{"n": 2}').id)])
        self.assertEqual(self.client_of("keeper").shelf(self.shelf.key).read("a.json", "draft:main"), b'{"n": 1}')

    def test_cells_and_texts_are_edited_where_they_stand(self) -> None:
        data = b"id;fare\r\n1;2,50\r\n2;3\r\n"
        self.put({"fares.csv": data})
        shown = self.shelf.cells("fares.csv")
        self.assertEqual((shown.columns, shown.rows), (["id", "fare"], [["1", "2,50"], ["2", "3"]]))
        cell = {"row": 1, "column": "fare", "value": "4", "was": "3"}
        made = self.shelf.edit_content("fares.csv", shown.content, cells=[cell])
        self.assertEqual(self.shelf.content(made.id), data.replace(b"2;3", b"2;4"))
        with self.assertRaises(ProblemError) as caught:
            self.shelf.edit_content("fares.csv", made.id, cells=[cell])
        self.assertEqual((caught.exception.status, caught.exception.code), (409, "edit.changed"))
        text = self.shelf.edit_content("fares.csv", shown.content, text="id;fare\n1;2,50\n2;3\n3;9\n")
        self.assertEqual(self.shelf.content(text.id), data + b"3;9\r\n")
        self.put({"x.bin": b"\0\1\2"})
        with self.assertRaises(ProblemError) as caught:
            self.shelf.edit_content("x.bin", self.shelf.artifact("x.bin").content, text="no")
        self.assertLess(caught.exception.status, 500)


class CopyTests(ServiceCase):
    """An artifact of another shelf, with where it comes from."""

    def test_a_copy_brings_its_versions_with_authors_and_times(self) -> None:
        for n in (1, 2, 3):
            self.put({"a.json": b'{"n": %d}' % n}, f"Version {n}")
        target = self.make_shelf()
        made = target.copy(self.shelf.key, "a.json", version=2, to="from/a.json")
        self.assertEqual((made["versions"], target.read("from/a.json")), (2, b'{"n": 2}'))
        here = target.history("from/a.json")
        self.assertEqual([(v.version, v.summary) for v in here], [(2, "Version 2"), (1, "Version 1")])
        labels = [v.labels["copied-from"] for v in here]
        self.assertEqual(labels[0], f"{self.shelf.key}/a.json version 2")
        found = target.compare_artifact("from/a.json", "version:1", "version:2")
        self.assertEqual([(f.before, f.after) for f in found.findings], [(1, 2)])

    def test_a_copy_onto_a_branch_with_work_is_one_step_of_it(self) -> None:
        self.put({"a.json": b'{"n": 1}'}, "One")
        self.put({"a.json": b'{"n": 2}'}, "Two")
        target = self.make_shelf()
        first = self.shelf.upload(b"x")
        self.assertTrue(first.id)
        from tests.support.factories import commit_files

        commit_files(target, {"b.txt": b"1"}, "Of its own")
        made = target.copy(self.shelf.key, "a.json")
        self.assertEqual(sorted(a.path for a in target.artifacts()), ["a.json", "b.txt"])
        self.assertEqual(target.branch("main").head, made["commit"])
        self.assertEqual(target.artifact("a.json").version, 2)
        job = target.wait(target.verify())
        self.assertEqual(job.state, "done")
        with self.assertRaises(ProblemError) as caught:
            target.copy(self.shelf.key, "a.json")
        self.assertEqual(caught.exception.code, "copy.taken")

    def test_only_what_one_may_see_is_copied(self) -> None:
        self.put({"a.json": b'{"n": 1}'})
        author = self.client_of("author")
        own = author.shelf(author.make_shelf("Own of the author").key)
        with self.assertRaises(ProblemError) as caught:
            own.copy(self.shelf.key, "a.json")
        self.assertEqual(caught.exception.code, "shelf.missing")

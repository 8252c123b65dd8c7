"""What versions were made from: runs, builds, commits that say so, copies; as PROV and as a page; can it be made again."""

from __future__ import annotations

import json
import random
from typing import Any

from everyshelf.client import ChangeRequest, CommitMessage, ProblemError, ShelfClient
from everyshelf.core.answers.lineage import LineageAnswer
from tests.support.factories import ServiceCase, Terminal, commit_files


class LineageCase(ServiceCase):
    def commit(self, files: dict[str, bytes], summary: str, *, branch: str = "main", **labels: str) -> str:
        changes = [ChangeRequest(path, self.shelf.upload(data).id) for path, data in files.items()]
        message = CommitMessage(summary, labels={name.replace("_", "-"): value for name, value in labels.items()})
        return str(self.shelf.commit(branch, self.shelf.branch(branch).head, changes, message).commit)

    def run_(
        self, reads: list[str], writes: dict[str, bytes], command: str, branch: str = "main", **parameters: Any
    ) -> str:
        """A run of the experiment that read some artifacts and wrote others."""
        base = str(self.shelf.branch(branch).head)
        made = self.commit(writes, f"Result of {command}", branch=branch)
        self.shelf.record_run("try", branch, made, base=base, reads=reads, command=command, parameters=parameters)
        return made

    def told(self, found: LineageAnswer) -> list[tuple[int, str, int | None]]:
        return [(v.distance, v.artifact, v.version) for v in found.versions]


class ChainTests(LineageCase):
    """Raw data through three steps to a report."""

    def setUp(self) -> None:
        super().setUp()
        self.commit({"raw.csv": b"a,b\n1,2\n", "clean.py": b"print(1)\n", "fit.py": b"print(2)\n"}, "Raw")
        self.shelf.begin_experiment("Is it better so?", key="try", branch="try")
        self.run_(["raw.csv", "clean.py"], {"clean.csv": b"a\n1\n"}, "python clean.py --limit 3", limit=3)
        self.run_(["clean.csv", "fit.py"], {"model.pkl": b"\x80\x04]\x94."}, "python fit.py", depth=6)
        self.commit(
            {"report.md": b"# All\n"},
            "Report",
            made_from="model.pkl, clean.csv",
            made_with="make report",
            made_by="nightly 7",
        )

    def test_back_and_on_over_any_number_of_steps(self) -> None:
        found = self.shelf.lineage("model.pkl")
        self.assertEqual(
            self.told(found),
            [
                (-2, "clean.py", 1),
                (-2, "raw.csv", 1),
                (-1, "clean.csv", 1),
                (-1, "fit.py", 1),
                (0, "model.pkl", 1),
                (1, "report.md", 1),
            ],
        )
        first = found.steps[0]
        self.assertEqual((first.sort, first.distance, first.name), ("run", -2, "run 1 of try"))
        self.assertEqual(found.steps[1].parameters, {"depth": 6})
        self.assertEqual(
            (found.steps[2].sort, found.steps[2].name, found.steps[2].command),
            ("build", "build nightly 7", "make report"),
        )
        self.assertEqual(found.sentence, "model.pkl v1 was made by run 2 of try from 2 versions; 1 step read it.")
        raw = self.shelf.lineage("raw.csv")
        self.assertEqual([v.artifact for v in raw.versions if v.distance == 2], ["model.pkl", "report.md"])
        near = self.shelf.lineage("report.md", depth=1)
        self.assertEqual(
            ([v.artifact for v in near.versions if v.distance < 0], near.more), (["clean.csv", "model.pkl"], True)
        )

    def test_versions_not_artifacts(self) -> None:
        self.commit({"clean.csv": b"a\n2\n"}, "By hand")
        by_hand = self.shelf.lineage("clean.csv")
        self.assertEqual(self.told(by_hand), [(0, "clean.csv", 2)])
        self.assertIn("No run, build or copy", by_hand.sentence)
        self.assertIsNone(by_hand.again.possible)
        first = self.shelf.lineage("clean.csv", version=1)
        self.assertEqual((len(first.versions), [s.more_reads for s in first.steps]), (5, [0, 1, 0]))
        moved = ChangeRequest("data/clean.csv", self.shelf.upload(b"a\n2\n").id, moved_from="clean.csv")
        self.shelf.commit("main", self.shelf.branch("main").head, [moved], CommitMessage("Move it"))
        self.commit({"second.md": b"# 2\n"}, "Second", made_from="data/clean.csv")
        self.assertEqual(
            [v.artifact for v in self.shelf.lineage("data/clean.csv").versions if v.distance == 1], ["second.md"]
        )

    def test_a_moved_artifact_keeps_its_lineage_and_a_script_is_not_made_by_its_own_commit(self) -> None:
        moved = ChangeRequest("models/model.pkl", self.shelf.upload(b"\x80\x04]\x94.").id, moved_from="model.pkl")
        self.shelf.commit("main", self.shelf.branch("main").head, [moved], CommitMessage("Move it"))
        found = self.shelf.lineage("models/model.pkl")
        self.assertIn((-1, "clean.csv", 1), self.told(found))
        self.commit(
            {"gen.py": b"print(3)\n", "gen.csv": b"g\n1\n"}, "Both", made_from="gen.py", made_with="python gen.py"
        )
        self.assertEqual(self.told(self.shelf.lineage("gen.csv")), [(-1, "gen.py", 1), (0, "gen.csv", 1)])
        own = self.shelf.lineage("gen.py")
        self.assertEqual((self.told(own), own.again.possible), ([(0, "gen.py", 1), (1, "gen.csv", 1)], None))

    def test_what_a_branch_made_is_known_after_the_merge(self) -> None:
        self.run_(["raw.csv"], {"other.csv": b"a\n3\n"}, "python other.py", branch="try")
        self.commit({"note.md": b"# Main\n"}, "On main")
        self.shelf.merge("try", "main")
        self.assertEqual([v.artifact for v in self.shelf.lineage("other.csv").versions], ["raw.csv", "other.csv"])

    def test_can_it_be_made_again(self) -> None:
        again = self.shelf.lineage("model.pkl").again
        self.assertTrue(again.possible, again.sentence)
        self.assertEqual(
            [(one.what, one.name, one.there) for one in again.needs],
            [
                ("command", "python fit.py", True),
                ("parameters", "depth=6", True),
                ("input", "clean.csv", True),
                ("input", "fit.py", True),
                ("code", "fit.py", True),
            ],
        )
        self.commit({"lost.csv": b"x\n"}, "Lost", made_from="gone.csv, raw.csv@tag:none", made_with="make lost")
        lost = self.shelf.lineage("lost.csv").again
        self.assertEqual(
            (lost.possible, lost.sentence), (False, "It cannot be made again: gone.csv, raw.csv@tag:none are missing.")
        )
        self.commit({"half.csv": b"y\n"}, "Half", made_from="raw.csv")
        half = self.shelf.lineage("half.csv").again
        self.assertEqual(
            (half.possible, half.sentence), (None, "It may be made again; the command, the code are not recorded.")
        )

    def test_where_it_runs(self) -> None:
        self.shelf.make_environment("test")
        self.shelf.make_tag("one")
        self.shelf.wait(self.shelf.promote("one", "test"))
        self.commit({"report.md": b"# New\n"}, "By hand")
        found = {v.artifact: v.runs_in for v in self.shelf.lineage("model.pkl").versions}
        self.assertEqual((found["model.pkl"], found["report.md"], found["raw.csv"]), (["test"], ["test"], ["test"]))
        self.assertEqual(self.shelf.lineage("report.md").versions[0].runs_in, [])

    def test_as_prov_and_as_a_page(self) -> None:
        document = json.loads(self.shelf.lineage_report("model.pkl"))
        key = self.shelf.key
        entities = {name.removeprefix(f"at:{key}/artifact/") for name in document["entity"]}
        self.assertEqual(
            entities, {"raw.csv/v1", "clean.py/v1", "clean.csv/v1", "fit.py/v1", "model.pkl/v1", "report.md/v1"}
        )
        used = {
            (u["prov:activity"].rpartition("/")[2], u["prov:entity"].rpartition("artifact/")[2])
            for u in document["used"].values()
        }
        self.assertIn(("1", "raw.csv/v1"), used)
        for relation, ends in (("used", ("activity", "entity")), ("wasGeneratedBy", ("entity", "activity"))):
            for one in document[relation].values():
                for end in ends:
                    self.assertIn(one[f"prov:{end}"], document[end])
        derived = {
            (d["prov:generatedEntity"].rpartition("artifact/")[2], d["prov:usedEntity"].rpartition("artifact/")[2])
            for d in document["wasDerivedFrom"].values()
        }
        self.assertIn(("model.pkl/v1", "clean.csv/v1"), derived)
        self.assertTrue(
            all(
                name.startswith(("at:", "_:"))
                for part in document.values()
                if isinstance(part, dict)
                for name in part
                if name not in ("at", "shelf")
            )
        )
        page = self.shelf.lineage_report("model.pkl", form="html")
        for words in ("Lineage of model.pkl v1", "python clean.py --limit 3", "It can be made again", "report.md v1"):
            self.assertIn(words, page)
        self.assertNotIn("<script", page)

    def test_on_the_command_line(self) -> None:
        terminal = Terminal(self, self.service)
        terminal.set("EVERYSHELF_SHELF", self.shelf.key)
        said = terminal.run("lineage", "model.pkl").stdout
        self.assertRegex(said, r"● model\.pkl v1")
        self.assertIn("reads clean.csv v1, fit.py v1; makes model.pkl v1", said)
        self.assertIn("It can be made again: command, parameters, code and 2 inputs are all on this shelf.", said)
        self.assertRegex(said, r"✓ input +clean\.csv")
        terminal.run("lineage", "model.pkl", "--report", "made.json")
        self.assertIn("wasGeneratedBy", json.loads((terminal.folder / "made.json").read_text()))
        self.assertIn(
            "neither .html nor .json", terminal.run("lineage", "model.pkl", "--report", "made.txt", code=2).stderr
        )
        terminal.run("take", self.shelf.key, "desk")
        (terminal.folder / "desk" / "made.csv").write_text("a\n9\n")
        terminal.folder = terminal.folder / "desk"
        terminal.run(
            *("commit", "--summary", "Made on a desk", "--made-from", "raw.csv@main", "--made-from", "clean.py"),
            *("--made-with", "python clean.py", "--made-by", "clean 2.1"),
        )
        self.assertEqual(
            [v.artifact for v in self.shelf.lineage("made.csv").versions], ["clean.py", "raw.csv", "made.csv"]
        )

    def test_odd_questions(self) -> None:
        for asked, code in (({"depth": 51}, "lineage.depth"), ({"version": 9}, "version.missing")):
            with self.assertRaises(ProblemError) as caught:
                self.shelf.lineage("raw.csv", **asked)
            self.assertEqual(caught.exception.code, code)
        with self.assertRaises(ProblemError) as caught:
            self.shelf.lineage_report("raw.csv", form="pdf")
        self.assertEqual(caught.exception.code, "report.form")


class TruthTests(LineageCase):
    def test_random_histories_against_the_script_that_made_them(self) -> None:
        rng = random.Random(11)
        self.commit({f"raw{n}.csv": b"%d\n" % n for n in range(3)}, "Raw")
        self.shelf.begin_experiment("Which?", key="try", branch="try")
        current = {f"raw{n}.csv": (f"raw{n}.csv", 1) for n in range(3)}
        made: dict[tuple[str, int], set[tuple[str, int]]] = {}
        for step in range(14):
            reads = rng.sample(sorted(current), rng.randint(1, 2))
            target = rng.choice([f"made{rng.randint(0, 4)}.csv", rng.choice(sorted(current))])
            version = current[target][1] + 1 if target in current else 1
            sources = {current[path] for path in reads}
            data = {target: b"made %d\n" % step}
            if rng.random() < 0.5:
                self.run_(reads, data, f"step {step}")
            else:
                self.commit(data, f"Step {step}", made_from=", ".join(reads), made_with=f"step {step}")
            current[target] = (target, version)
            made[target, version] = sources
        for one in made:
            name, number = one
            found = self.shelf.lineage(name, version=number, depth=50)
            back = {(v.artifact, v.version) for v in found.versions if v.distance < 0}
            on = {(v.artifact, v.version) for v in found.versions if v.distance > 0}
            self.assertEqual(back - {one}, _reach(one, made) - {one}, one)
            forward = {other for other in made if one in _reach(other, made)}
            self.assertEqual((on | back) - {one}, (forward | _reach(one, made)) - {one}, one)


def _reach(one: tuple[str, int], made: dict[tuple[str, int], set[tuple[str, int]]]) -> set[tuple[str, int]]:
    found: set[tuple[str, int]] = set()
    waiting = [one]
    while waiting:
        for source in made.get(waiting.pop(), set()) - found:
            found.add(source)
            waiting.append(source)
    return found


class OtherShelvesTests(LineageCase):
    """Copies lead to other shelves, but only to those one may see."""

    def test_a_copy_and_what_is_not_to_be_seen(self) -> None:
        self.commit({"raw.csv": b"a,b\n7,7\n"}, "Raw")
        self.commit({"clean.csv": b"a\n7\n"}, "Clean", made_from="raw.csv", made_with="clean")
        other = self.make_shelf()
        commit_files(other, {"own.txt": b"own\n"}, "Own")
        other.copy(self.shelf.key, "clean.csv", to="taken.csv")
        _say(other, {"report.md": b"# Far\n"}, "taken.csv")
        found = other.lineage("taken.csv")
        told = [(v.distance, v.shelf == other.key, v.artifact) for v in found.versions]
        self.assertEqual(
            told, [(-2, False, "raw.csv"), (-1, False, "clean.csv"), (0, True, "taken.csv"), (1, True, "report.md")]
        )
        on = [(v.distance, v.artifact) for v in self.shelf.lineage("raw.csv").versions]
        self.assertEqual(on, [(0, "raw.csv"), (1, "clean.csv"), (2, "taken.csv"), (3, "report.md")])
        self.assertEqual(
            (found.again.possible, [(one.name, one.there) for one in found.again.needs]),
            (True, [(f"{self.shelf.key}: clean.csv", True)]),
        )
        other.set_member("reader", "reader")
        mine = self.client_of("reader").shelf(other.key).lineage("taken.csv")
        self.assertEqual([(v.distance, v.artifact) for v in mine.versions], [(0, "taken.csv"), (1, "report.md")])
        self.assertTrue(all(v.shelf == other.key for v in mine.versions))
        self.assertEqual([step.more_reads for step in mine.steps if step.sort == "copy"], [])
        other.remove_member("reader")
        self.shelf.set_member("reader", "reader")
        seen = self.client_of("reader").shelf(self.shelf.key).lineage("raw.csv")
        self.assertEqual([v.artifact for v in seen.versions], ["raw.csv", "clean.csv"])


def _say(shelf: ShelfClient, files: dict[str, bytes], made_from: str) -> None:
    changes = [ChangeRequest(path, shelf.upload(data).id) for path, data in files.items()]
    message = CommitMessage("Made", labels={"made-from": made_from})
    shelf.commit("main", shelf.branch("main").head, changes, message)

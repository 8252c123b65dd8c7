"""Random steps of two people across everything in which their work can be: two desks, two drafts, a Git repository behind
a link, an environment, branches, merges and undoing, with the service killed in between.

A model that imports nothing of ours says what each place must hold. It knows things, not files: rows of a table, steps of
a workflow, files; each is changed in one place only, so the newest change of each is what a place must show once it has
come there, and no merge can be a conflict. After each step what the shelf and the place really hold is compared with it.
"""

from __future__ import annotations

import csv
import io
import json
import shutil
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path
from random import Random
from typing import Any

from tests.support.factories import Terminal
from tests.support.git import TOKEN, GitServer, run_git
from tests.support.service import PASSWORD, Service

from bench.measure import Figure
from everyshelf.client import ChangeRequest, ProblemError, Saving, ShelfClient

Thing = tuple[str, str]  # a path, and the row or step in it; of a file by itself the second is empty
_TABLE, _FLOW, _SCENARIO = "fares.csv", "flow.json", "made/"
_PEOPLE = {"ada": "owner", "ben": "keeper"}
_THINGS = 5
_CHECK_ALL_AFTER = 10


class State(dict[Thing, "tuple[int, str | None]"]):
    """What a place must hold: for each thing the number of its newest change there and what it says; None: gone."""

    def shown(self) -> dict[Thing, str]:
        """What can be seen of it."""
        return {thing: value for thing, (_, value) in self.items() if value is not None}

    def merged(self, *others: Mapping[Thing, tuple[int, str | None]]) -> State:
        """With what came from elsewhere: of each thing the newest change."""
        found = State(self)
        for other in others:
            for thing, change in other.items():
                if thing not in found or found[thing][0] < change[0]:
                    found[thing] = change
        return found

    def since(self, before: Mapping[Thing, tuple[int, str | None]]) -> State:
        """What was changed after ``before``."""
        return State({thing: change for thing, change in self.items() if before.get(thing) != change})


def things(files: Mapping[str, bytes]) -> dict[Thing, str]:
    """The things in files, read by general parsers."""
    found: dict[Thing, str] = {}
    for path, data in files.items():
        if path == _TABLE:
            rows = list(csv.reader(io.StringIO(data.decode())))[1:]
            assert len({row[0] for row in rows}) == len(rows), f"a row stands twice: {data.decode()}"
            found |= {(path, row[0]): row[1] for row in rows}
        elif path == _FLOW:
            steps = json.loads(data)["steps"]
            assert len({step["id"] for step in steps}) == len(steps), f"a step stands twice: {data.decode()}"
            found |= {(path, step["id"]): step["run"] for step in steps}
        elif path.startswith(_SCENARIO):
            found[path, ""] = data.decode()
    return found


def changed(data: bytes | None, thing: Thing, value: str | None) -> bytes | None:
    """A file with one thing in it changed, added or taken out, as a person would with an editor."""
    path, key = thing
    if not key:
        return value.encode() if value is not None else None
    assert data is not None
    if path == _TABLE:
        head, *rows = data.decode().splitlines()
        place = next((n for n, row in enumerate(rows) if row.startswith(f"{key},")), len(rows) // 2)
        old = 1 if place < len(rows) and rows[place].startswith(f"{key},") else 0
        rows[place : place + old] = [f"{key},{value}"] if value is not None else []
        return "".join(f"{row}\n" for row in (head, *rows)).encode()
    flow = json.loads(data)
    steps = [step for step in flow["steps"] if step["id"] != key]
    place = next((n for n, step in enumerate(flow["steps"]) if step["id"] == key), len(steps))
    if value is not None:
        steps.insert(place, {"id": key, "run": value})
    return (json.dumps({**flow, "steps": steps}, indent=1) + "\n").encode()


@dataclass
class _Draft:
    base: State
    state: State


@dataclass
class _Made:
    """A commit of one place's own changes alone: what it changed, and what was there before."""

    uid: str
    changes: State
    before: State


@dataclass
class Seams:
    """One campaign; ``problems``: what was found wrong, with the step after which it was."""

    seed: int
    steps: int
    problems: list[str] = field(default_factory=list)
    done: Counter[str] = field(default_factory=Counter)
    refused: Counter[str] = field(default_factory=Counter)

    def run(self) -> Seams:
        """Make the steps; ends early once ten things are wrong."""
        with ExitStack() as stack:
            self._stack, self._rng = stack, Random(self.seed)
            self._set_up()
            for number in range(1, self.steps + 1):
                act = self._rng.choice(self._acts())
                name = f"step {number}: {act.__name__.strip('_')}"
                try:
                    act()
                    self._check_main()
                    if number % _CHECK_ALL_AFTER == 0 or number == self.steps:
                        self._check_all()
                except (AssertionError, ProblemError) as error:
                    self.problems.append(f"seed {self.seed}, {name}: {error}")
                    if len(self.problems) >= 10 or not self._go_on():
                        break
                self.done[act.__name__.strip("_")] += 1
        return self

    def _acts(self) -> list[Callable[[], None]]:
        return [
            *[self._edit_on_desk] * 5,
            *[self._commit_desk] * 3,
            *[self._catch_up] * 2,
            self._discard_on_desk,
            *[self._edit_in_draft] * 4,
            *[self._commit_draft] * 2,
            self._discard_draft,
            *[self._edit_in_git] * 3,
            *[self._fetch] * 2,
            *[self._send] * 2,
            *[self._edit_there] * 2,
            self._capture,
            *[self._promote] * 2,
            *[self._branch] * 2,
            *[self._undo] * 2,
            self._kill,
        ]

    # --- what there is at first -----------------------------------------------------------

    def addCleanup(self, act: Callable[..., Any], *given: Any) -> None:  # noqa: N802
        """As a test case has it, for what is made to be used by one."""
        self._stack.callback(act, *given)

    def _set_up(self) -> None:
        self._service = Service()
        self._stack.callback(self._service.stop)
        self._folder = Path(tempfile.mkdtemp(prefix="es-seams-"))
        self._stack.callback(shutil.rmtree, self._folder, ignore_errors=True)
        owner = self._service.client()
        for person in _PEOPLE:
            owner.add_person(person, person.capitalize(), PASSWORD)
        self._key = owner.make_shelf("Seams").key
        for person, role in _PEOPLE.items():
            owner.shelf(self._key).set_member(person, role)
        self._number = 0
        self._latest: dict[Thing, int] = {}
        self._made: list[_Made] = []
        self._uids: list[str] = []
        self._deleted: set[str] = set()
        self._drafted: set[str] = set()
        self._branches = 0
        places = [*(f"{kind}-{person}" for person in _PEOPLE for kind in ("desk", "draft")), "git", "there", "try"]
        names = [f"{place}-{n}" for place in places for n in range(_THINGS)]
        self._rng.shuffle(names)
        table = "zone,fare\n" + "".join(f"{name},0\n" for name in names)
        flow = json.dumps({"steps": [{"id": name, "run": "0"} for name in names]}, indent=1) + "\n"
        files: dict[str, bytes] = {_TABLE: table.encode(), _FLOW: flow.encode()}
        self._main = State({thing: (0, value) for thing, value in things(files).items()})
        self._latest = dict.fromkeys(self._main, 0)
        self._commit_files("main", files, "The beginning")
        self._start_desks()
        self._drafts: dict[str, _Draft | None] = dict.fromkeys(_PEOPLE)
        self._start_git()
        self._shelf().make_environment("quay", fed_from="main")
        self._there: State | None = None
        self._deployed = State()

    def _start_desks(self) -> None:
        self._terminals, self._desks, self._bases = {}, {}, {}
        for person in _PEOPLE:
            terminal = Terminal(self, self._service, person)  # type: ignore[arg-type]
            terminal.run("take", self._key, "desk")
            terminal.folder = terminal.home / "desk"
            self._terminals[person] = terminal
            self._desks[person] = self._bases[person] = State(self._main)

    def _start_git(self) -> None:
        server = GitServer(self._folder)
        self._stack.callback(server.close)
        self._bare = server.make("office.git")
        address = f"{server.address}/{self._bare.name}"
        self._shelf().make_git_link("office", address, user="everyshelf", token=TOKEN)
        self._wait(self._shelf().send_git_link("office"))
        self._git, self._unfetched = State(self._main), 0
        self._clone = self._folder / "clone"
        run_git("clone", "-q", str(self._bare), str(self._clone), folder=self._folder)

    def _shelf(self, person: str = "ada") -> ShelfClient:
        return self._service.client(person).shelf(self._key)

    def _wait(self, job: Any) -> Any:
        return self._shelf().wait(job)

    def _commit_files(self, branch: str, files: Mapping[str, bytes | None], summary: str, person: str = "ada") -> str:
        shelf = self._shelf(person)
        changes = [ChangeRequest(p, shelf.upload(d).id if d is not None else None) for p, d in files.items()]
        uid = shelf.commit(branch, shelf.branch(branch).head, changes, summary).commit
        self._uids.append(uid)
        return uid

    # --- changes ----------------------------------------------------------------------------

    def _change(self, place: str, held: State, read: Callable[[str], bytes | None]) -> tuple[str, bytes | None, State]:
        """One random change of a thing of this place: its path, the file as it is then, and what the place then holds."""
        own = [
            thing
            for thing, (number, _) in held.items()
            if (thing[1] or thing[0].removeprefix(_SCENARIO)).startswith(f"{place}-") and number == self._latest[thing]
        ]
        self._number += 1
        fresh: Thing = (_SCENARIO + f"{place}-{self._number}.txt", "")
        if self._rng.random() < 0.5:
            fresh = (self._rng.choice([_TABLE, _FLOW]), f"{place}-{self._number}")
        thing = self._rng.choice(own) if own and self._rng.random() < 0.75 else fresh
        value: str | None = f"{self._number}"
        if thing in held and held[thing][1] is not None and self._rng.random() < 0.2:
            value = None
        path = thing[0]
        data = changed(read(path), thing, value)
        self._latest[thing] = self._number
        return path, data, held.merged({thing: (self._number, value)})

    def _write(self, folder: Path, place: str, held: State) -> State:
        def read(path: str) -> bytes | None:
            return (folder / path).read_bytes() if (folder / path).exists() else None

        path, data, state = self._change(place, held, read)
        if data is None:
            (folder / path).unlink()
        else:
            (folder / path).parent.mkdir(parents=True, exist_ok=True)
            (folder / path).write_bytes(data)
        return state

    def _committed(self, uid: str, changes: State, before: State, *, alone: bool) -> None:
        self._uids.append(uid)
        if alone:
            self._made.append(_Made(uid, changes, before))

    # --- desks ----------------------------------------------------------------------------

    def _someone(self) -> str:
        return self._rng.choice(list(_PEOPLE))

    def _edit_on_desk(self) -> None:
        who = self._someone()
        self._desks[who] = self._write(self._terminals[who].folder, f"desk-{who}", self._desks[who])
        self._check_desk(who)

    def _commit_desk(self) -> None:
        who = self._someone()
        terminal, desk = self._terminals[who], self._desks[who]
        changes = desk.since(self._bases[who])
        if not changes:
            return
        moved = self._main != self._bases[who]
        theirs = {thing[0] for thing in self._main.since(self._bases[who])}
        if theirs & {thing[0] for thing in changes} and self._rng.random() < 0.3:
            answer = terminal.run("commit", "--summary", "too early", code=3)
            self._refused(answer.stderr + answer.stdout)
            self._check_desk(who)
            return
        before = State(self._main)
        found = terminal.json("commit", "--summary", f"desk of {who}", "--remove", *(["--merge"] if moved else []))
        self._main = self._main.merged(desk)
        self._desks[who] = self._bases[who] = State(self._main)
        self._committed(found["commit"], changes, before, alone=not moved)
        self._check_desk(who)

    def _catch_up(self) -> None:
        who = self._someone()
        self._terminals[who].run("catch-up")
        self._bases[who] = State(self._main)
        self._desks[who] = self._main.merged(self._desks[who])
        self._check_desk(who)

    def _discard_on_desk(self) -> None:
        who = self._someone()
        if not self._desks[who].since(self._bases[who]):
            return
        self._terminals[who].run("discard", "--all")
        self._forget(self._desks[who], self._bases[who])
        self._desks[who] = State(self._bases[who])
        self._check_desk(who)

    def _forget(self, state: State, base: State) -> None:
        """Changes that are given up: what was there before is the newest again."""
        for thing in state.since(base):
            self._latest[thing] = base[thing][0] if thing in base else -1

    # --- drafts ---------------------------------------------------------------------------

    def _edit_in_draft(self) -> None:
        who = self._someone()
        shelf, draft = self._shelf(who), self._drafts[who]
        held = draft.state if draft else State(self._main)
        ref = "draft:main" if draft else "main"

        def read(path: str) -> bytes | None:
            return shelf.read(path, ref) if any(thing[0] == path for thing in held.shown()) else None

        path, data, state = self._change(f"draft-{who}", held, read)
        self._drafted.add(who)
        entry = Saving(path, shelf.upload(data).id if data is not None else None)
        shelf.save("main", [entry], shelf.branch("main").head if draft is None else None)
        now = _Draft(draft.base if draft else State(self._main), state)
        if now.state.shown() == now.base.shown():  # back to what was committed: nothing is pending any more
            self._forget(now.state, now.base)
        self._drafts[who] = now if now.state.shown() != now.base.shown() else None
        self._check_draft(who)

    def _commit_draft(self) -> None:
        who = self._someone()
        draft = self._drafts[who]
        if draft is None:
            return
        moved = self._main != draft.base
        before, changes = State(self._main), draft.state.since(draft.base)
        theirs = {thing[0] for thing in self._main.since(draft.base)}
        if theirs & {thing[0] for thing in changes} and self._rng.random() < 0.3:
            try:
                self._shelf(who).commit_draft("main", "too early")
            except ProblemError as error:
                self._refused(error.code)
                return
            raise AssertionError("a draft of an older commit was committed without a merge")
        made = self._shelf(who).commit_draft("main", f"draft of {who}", merge=moved)
        self._main = self._main.merged(draft.state)
        self._drafts[who] = None
        self._committed(made.commit, changes, before, alone=not moved)

    def _discard_draft(self) -> None:
        who = self._someone()
        draft = self._drafts[who]
        if draft is None:
            return
        self._shelf(who).discard_draft("main")
        self._forget(draft.state, draft.base)
        self._drafts[who] = None

    # --- Git --------------------------------------------------------------------------------

    def _edit_in_git(self) -> None:
        run_git("pull", "-q", "--ff-only", folder=self._clone)
        self._git = self._write(self._clone, "git", self._git)
        run_git("add", "-A", folder=self._clone)
        run_git("commit", "-q", "-m", f"git {self._number}", folder=self._clone)
        run_git("push", "-q", folder=self._clone)
        self._unfetched += 1

    def _fetch(self) -> None:
        self._wait(self._shelf().fetch_git_link("office"))
        if self._unfetched:
            self._main = self._main.merged(self._git)
        self._unfetched = 0

    def _send(self) -> None:
        nothing_new = self._main.merged(self._git) == self._git
        self._wait(self._shelf().send_git_link("office"))
        wanted = ("behind" if nothing_new else "diverged") if self._unfetched else "in step"
        (state,) = (line.state for line in self._shelf().git_link("office").link.lines if line.branch == "main")
        assert state == wanted, f"after sending it says {state}, and main is {wanted}"
        if self._unfetched:
            self._refused(state)
        else:
            self._git = State(self._main)
        self._check_git()

    # --- the environment --------------------------------------------------------------------

    def _place(self) -> Path:
        return Path(self._shelf().environment("quay").address) / "now"

    def _promote(self) -> None:
        if self._there is not None and self._there.since(self._deployed).since(self._main):
            try:
                self._shelf().make_tag(f"early-{self._number}-{len(self._uids)}")
                self._wait(self._shelf().promote(f"early-{self._number}-{len(self._uids)}", "quay"))
            except ProblemError as error:
                self._refused(error.code)
                return
            raise AssertionError("a promotion went over what was changed in the environment")
        tag = f"t-{self._number}-{len(self._uids)}-{sum(self.done.values())}"
        self._shelf().make_tag(tag)
        self._wait(self._shelf().promote(tag, "quay", overwrite_drift=True))
        self._there = State(self._main)
        self._deployed = State(self._main)
        self._check_there()

    def _edit_there(self) -> None:
        if self._there is None:
            return
        self._there = self._write(self._place(), "there", self._there)
        sides = {row["path"] for row in self._shelf().drift("quay")["artifacts"] if row["side"] != "shelf"}
        wanted = {thing[0] for thing in self._there.since(self._deployed).since(self._main)}
        assert wanted <= sides, f"{wanted - sides} was changed there, and drift does not say so"

    def _capture(self) -> None:
        if self._there is None:
            return
        changes = self._there.since(self._deployed)
        draft = self._drafts["ada"]
        if not changes.since(self._main) or draft is not None:
            return
        self._drafted.add("ada")
        base = State(self._main)
        told = self._shelf().capture("quay")["artifacts"]
        # What was captured before and was changed there once more is a conflict, which stays out and is told.
        again = {thing[0] for thing in changes if thing in base and base[thing][0] not in (0, changes[thing][0])}
        out = {row["path"] for row in told if not row["taken"]}
        assert out <= again, f"{out} were not captured: {told}"
        taken = State({thing: change for thing, change in changes.items() if thing[0] not in out})
        if taken.since(base):
            self._drafts["ada"] = _Draft(base, base.merged(taken))
        self._check_draft("ada")

    # --- branches, undoing, ends --------------------------------------------------------------

    def _branch(self) -> None:
        who = self._someone()
        shelf = self._shelf(who)
        self._branches += 1
        name = f"try-{self._branches}"
        shelf.make_branch(name, "main")
        held = State(self._main)
        for _ in range(self._rng.randint(1, 2)):

            def read(path: str, held: State = held) -> bytes | None:
                return shelf.read(path, name) if any(thing[0] == path for thing in held.shown()) else None

            path, data, held = self._change("try", held, read)
            self._commit_files(name, {path: data}, f"on {name}", who)
        if self._rng.random() < 0.3:  # something else comes to the main branch in the meantime
            self._edit_on_desk()
            self._commit_desk()
        shelf.merge(name, "main", delete_source=True)
        self._main = self._main.merged(held)
        self._deleted.add(name)

    def _undo(self) -> None:
        fit = [
            made
            for made in self._made
            if all(self._main.get(t) == c and self._latest[t] == c[0] for t, c in made.changes.items())
        ]
        if not fit:
            return
        made = self._rng.choice(fit)
        self._made.remove(made)
        commit = self._shelf().undo(made.uid, "main")
        for thing in made.changes:
            self._number += 1
            was = made.before.get(thing)
            self._main[thing] = (self._number, was[1] if was else None)
            self._latest[thing] = self._number
        self._uids.append(commit.commit)

    def _kill(self) -> None:
        self._service.kill_group()
        self._service.start()

    def _refused(self, why: str) -> None:
        self.refused[why.strip().splitlines()[-1][:80] if why.strip() else "nothing said"] += 1

    # --- what is really there -----------------------------------------------------------------

    @staticmethod
    def _compare(what: str, wanted: State, files: Mapping[str, bytes]) -> None:
        shown, found = wanted.shown(), things(files)
        if shown == found:
            return
        lost = {thing: value for thing, value in shown.items() if thing not in found}
        back = {thing: value for thing, value in found.items() if thing not in shown}
        other = {t: (v, found[t]) for t, v in shown.items() if t in found and found[t] != v}
        raise AssertionError(f"{what}: lost {lost}, brought back {back}, other than it must be {other}")

    def _files(self, ref: str, person: str = "ada") -> dict[str, bytes]:
        shelf = self._shelf(person)
        return {one.path: shelf.read(one.path, ref) for one in shelf.artifacts(ref)}

    @staticmethod
    def _in_folder(folder: Path) -> dict[str, bytes]:
        kept = (_TABLE, _FLOW)
        found = {name: (folder / name).read_bytes() for name in kept if (folder / name).exists()}
        made = folder / _SCENARIO
        return found | {_SCENARIO + p.name: p.read_bytes() for p in (made.iterdir() if made.exists() else ())}

    def _check_main(self) -> None:
        self._compare("main", self._main, self._files("main"))

    def _check_desk(self, who: str) -> None:
        self._compare(f"desk of {who}", self._desks[who], self._in_folder(self._terminals[who].folder))
        pending = {one["path"] for one in self._terminals[who].json("pending")["artifacts"]}
        wanted = {thing[0] for thing in self._desks[who].since(self._bases[who])}
        assert pending == wanted, f"pending on the desk of {who}: {pending}, and must be {wanted}"

    def _check_draft(self, who: str) -> None:
        draft = self._drafts[who]
        if draft is None:
            assert not self._shelf(who).drafts(), f"{who} has a draft of nothing"
            return
        self._compare(f"draft of {who}", draft.state, self._files("draft:main", who))

    def _check_git(self) -> None:
        self._compare("Git", self._git, GitServer.files(self._bare))
        self._wait(self._shelf().look_git_link("office"))
        (state,) = (line.state for line in self._shelf().git_link("office").link.lines if line.branch == "main")
        sides = {(False, False): "in step", (True, False): "ahead", (False, True): "behind", (True, True): "diverged"}
        wanted = sides[self._main.merged(self._git) != self._git, self._unfetched > 0]
        assert state == wanted, f"the link says {state}, and main is {wanted}"

    def _check_there(self) -> None:
        if self._there is None:
            return
        self._compare("the environment", self._there, self._in_folder(self._place()))
        rows = self._shelf().drift("quay")["artifacts"]
        if not rows:
            assert not self._there.since(self._main), "no drift, while the environment was changed"

    def _check_all(self) -> None:
        for person in _PEOPLE:
            self._check_desk(person)
            self._check_draft(person)
            self._check_points(person)
        self._check_git()
        self._check_there()
        left = self._deleted & {branch.name for branch in self._shelf().branches()}
        assert not left, f"branches came back: {left}"
        in_git = run_git("branch", "--format=%(refname:short)", folder=self._bare).stdout.split()
        assert not self._deleted & set(in_git), f"deleted branches are in Git: {self._deleted & set(in_git)}"
        known = {commit.commit for commit in self._shelf().commits("main")}
        lost = set(self._uids) - known
        assert not lost, f"commits are not in the history of main: {lost}"

    def _check_points(self, who: str) -> None:
        """A save point that names a commit: what was changed in it is there. One that does not is not in main."""
        shelf = self._shelf(who)
        now = {one.path: one.content for one in shelf.artifacts("main")}
        pending = {entry.point for draft in shelf.drafts() for entry in draft.entries}
        try:
            points = shelf.save_points("main")[:20]
        except ProblemError as error:
            assert error.code == "draft.none" and who not in self._drafted, f"{who} has lost a draft: {error}"
            return
        for point in points:
            if point.commit is None:
                in_main = point.content is not None and now.get(point.path) == point.content
                assert not in_main or point.point in pending, f"save point {point.point} is in main and not 'committed'"
                continue
            there = {one.path: one.content for one in shelf.artifacts(f"commit:{point.commit}")}
            if point.content is None:
                assert point.path not in there, f"save point {point.point} is not in the commit that it names"
            elif there.get(point.path) != point.content:
                said = things({point.path: shelf.content(point.content)})
                held = things({point.path: shelf.content(there[point.path])}) if point.path in there else {}
                own = {t: v for t, v in said.items() if f"draft-{who}-" in f"{t}"}
                assert own.items() <= held.items(), f"save point {point.point} is not in the commit that it names"

    def _go_on(self) -> bool:
        """Whether what is wrong lies in one place only, so that further steps can still be judged."""
        return False


def seams(campaigns: int = 5, steps: int = 100) -> Iterator[Figure]:
    """500 random steps over everything in which work can be: nothing lost, nothing brought back, nothing said wrongly."""
    problems: list[str] = []
    done: Counter[str] = Counter()
    refused: Counter[str] = Counter()
    for seed in range(campaigns):
        one = Seams(seed, steps).run()
        problems, done, refused = problems + one.problems, done + one.done, refused + one.refused
        print(f"     … {sum(done.values())} steps, {len(problems)} problems", flush=True)
        for problem in one.problems:
            print("       !", problem, flush=True)
    told = ", ".join(f"{number} {act.replace('_', ' ')}" for act, number in sorted(done.items()))
    what = f"problems in {sum(done.values())} steps across places, {sum(refused.values())} refused as they must be"
    yield Figure("seams", what, len(problems), "0", not problems, told)

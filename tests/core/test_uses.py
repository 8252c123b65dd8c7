"""What code and statements use: told the same as running them without a column tells."""

from __future__ import annotations

import contextlib
import random
import sqlite3
import unittest
from collections.abc import Iterator, Sequence
from typing import Any

from everyshelf.core.answers.uses import FileReferences, Reference, UsedPart, WantedPart
from everyshelf.core.outline.model import Part
from everyshelf.core.uses.calls import call_form
from everyshelf.core.uses.frames import Frames
from everyshelf.core.uses.impact import Link, Node, impact, places_used, sources
from everyshelf.core.uses.names import PathsOf, beside, file_names, files_meant, keys_for, keys_of, may_mean, tidied
from everyshelf.core.uses.reading import references_in
from everyshelf.core.uses.sql import follow

TABLES = {
    "tides": ["harbour", "moment", "tide_window", "height_m"],
    "sailings": ["sailing_id", "harbour", "vessel", "delay"],
    "fares": ["zone", "fare", "vessel"],
}


def _columns_of(statement: str) -> dict[str, set[str]]:
    return {
        table: {column.name for column in columns if column.exact} for table, columns in follow(statement).reads.items()
    }


class _Statements:
    """Random statements that SQLite runs: joins, aliases, subqueries, common table expressions, set operations."""

    def __init__(self, seed: int) -> None:
        self.random = random.Random(seed)
        self.count = 0

    def name(self) -> str:
        self.count += 1
        return f"n{self.count}"

    def select(self, depth: int = 0) -> tuple[str, list[str]]:
        """A query and the names of its columns."""
        sources = [self.source(depth) for _ in range(self.random.choice([1, 1, 2, 3]))]
        held = [(alias, column) for _, alias, columns in sources for column in columns]
        wanted = self.random.sample(held, min(len(held), self.random.randint(1, 3)))
        selects, names = [], []
        for alias, column in wanted:
            name = self.name()
            selects.append(f"{self.expression(alias, column, held)} AS {name}")
            names.append(name)
        text = f"SELECT {', '.join(selects)} FROM {' CROSS JOIN '.join(told for told, _, _ in sources)}"
        if self.random.random() < 0.5:
            alias, column = self.random.choice(held)
            text += f" WHERE {alias}.{column} > 1"
        if self.random.random() < 0.3:
            text += f" ORDER BY {self.random.choice(names)}"
        return text, names

    def expression(self, alias: str, column: str, held: list[tuple[str, str]]) -> str:
        other_alias, other = self.random.choice(held)
        return self.random.choice(
            [
                f"{alias}.{column}",
                f"{alias}.{column} + {other_alias}.{other}",
                f"CASE WHEN {alias}.{column} > 2 THEN {other_alias}.{other} ELSE 0 END",
                f"coalesce({alias}.{column}, 0)",
            ]
        )

    def source(self, depth: int) -> tuple[str, str, list[str]]:
        alias = self.name()
        if depth < 2 and self.random.random() < 0.4:
            text, names = self.select(depth + 1)
            return f"({text.partition(' ORDER BY')[0]}) AS {alias}", alias, names
        table = self.random.choice(list(TABLES))
        return f"{table} AS {alias}", alias, TABLES[table]

    def statement(self) -> str:
        if self.random.random() < 0.3:
            inner, names = self.select(1)
            called = self.name()
            kept = self.random.sample(names, self.random.randint(1, len(names)))
            return f"WITH {called} AS ({inner}) SELECT {', '.join(kept)} FROM {called}"
        return self.select()[0]


def _runs(statement: str, left_out: tuple[str, str] | None = None, raised: tuple[str, str] | None = None) -> Any:
    """The rows of a statement on tables of which one lacks a column, or has other values in one; None if it fails."""
    base = sqlite3.connect(":memory:")
    with contextlib.closing(base):
        for table, columns in TABLES.items():
            kept = [column for column in columns if (table, column) != left_out]
            base.execute(f"CREATE TABLE {table} ({', '.join(kept)})")
            for row in (1, 2):
                values = [row * 3 + k + (50 if (table, column) == raised else 0) for k, column in enumerate(kept)]
                base.execute(f"INSERT INTO {table} VALUES ({', '.join('?' * len(kept))})", values)
        try:
            return base.execute(statement).fetchall()
        except sqlite3.OperationalError:
            return None


class StatementTests(unittest.TestCase):
    def test_columns_used_are_those_without_which_it_fails(self) -> None:
        wrong = []
        for seed in range(150):
            statement = _Statements(seed).statement()
            self.assertIsNotNone(_runs(statement), statement)
            told = _columns_of(statement)
            for table, columns in TABLES.items():
                for column in columns:
                    needed = _runs(statement, (table, column)) is None
                    if needed != (column in told.get(table, set())):
                        wrong.append((statement, table, column, needed))
        self.assertEqual(wrong, [])

    def test_what_becomes_what_covers_what_changes(self) -> None:
        missed = []
        for seed in range(100):
            made = _Statements(seed)
            query, names = made.select()
            if " WHERE " in query or " ORDER BY " in query:
                continue  # with these every output may change
            followed = follow(f"CREATE TABLE made AS {query}")
            passed = {(c.table, c.name, name) for c, _, name in followed.flows}
            before = _runs(query)
            for table, columns in TABLES.items():
                for column in columns:
                    after = _runs(query, raised=(table, column))
                    for place, name in enumerate(names):
                        if [row[place] for row in before] != [row[place] for row in after]:
                            missed += [] if (table, column, name) in passed else [(query, table, column, name)]
        self.assertEqual(missed, [])

    def test_a_column_that_could_be_of_several_tables_is_a_guess(self) -> None:
        followed = follow("SELECT delay FROM tides, sailings")
        self.assertEqual(
            sorted((c.table, c.name, c.exact) for columns in followed.reads.values() for c in columns),
            [("sailings", "delay", False), ("tides", "delay", False)],
        )

    def test_stars_files_templates_and_what_a_statement_makes(self) -> None:
        followed = follow("COPY (SELECT * FROM read_csv('data/fares.csv')) TO 'out/f.parquet' (FORMAT parquet)")
        self.assertEqual(list(followed.reads), ["data/fares.csv"])
        self.assertEqual([(c.name, c.exact) for c in followed.reads["data/fares.csv"]], [("*", False)])
        self.assertEqual(followed.writes, ["out/f.parquet"])
        followed = follow("SELECT x.tide_window FROM (SELECT * FROM tides) AS x")
        self.assertIn(("tide_window", False), {(c.name, c.exact) for c in followed.reads["tides"]})
        followed = follow("{% if x %}{% endif %} SELECT tide_window FROM {{ table_of('tides') }} WHERE k = {day}")
        self.assertIn("tide_window", {c.name for c in followed.reads["tides"]})

    def test_a_table_made_on_the_way_leads_to_what_it_was_made_from(self) -> None:
        followed = follow(
            "CREATE TABLE a AS SELECT harbour, tide_window AS tw FROM tides;"
            "CREATE TABLE b AS SELECT tw * 2 AS twice FROM a; SELECT twice FROM b"
        )
        self.assertIn(("tides", "tide_window", "b", "twice"), [(c.table, c.name, t, n) for c, t, n in followed.flows])

    def test_a_chain_of_queries_each_of_all_of_the_one_before_ends(self) -> None:
        chain = ", ".join(
            f"c{n} AS (SELECT *, x AS x{n} FROM c{n - 1} UNION SELECT * FROM c{n - 1})" for n in range(1, 60)
        )
        followed = follow(f"WITH c0 AS (SELECT x FROM tides), {chain} SELECT x59 FROM c59")
        self.assertEqual({c.name for c in followed.reads["tides"]}, {"x"})

    def test_what_no_dialect_reads_is_told(self) -> None:
        self.assertFalse(follow("SELECT ((( FROM").read)
        self.assertFalse(follow("SELECT a FROM t WHERE b IN (" + "1, " * 90_000 + "1)").read)
        self.assertTrue(follow("SELECT a FROM t").read)

    def test_what_is_no_statement_gives_nothing(self) -> None:
        for text in ("select nothing here from", "with love", "", "SELECT (((((", "drop table x"):
            self.assertEqual((follow(text).reads, follow(text).writes), ({}, []))


class _Table:
    """A table like that of a data library, enough for the code below: it fails where a column is missing."""

    def __init__(self, columns: dict[str, list[float]]) -> None:
        self.columns = columns

    def __getitem__(self, wanted: Any) -> Any:
        if isinstance(wanted, list):
            return _Table({name: self.columns[name] for name in wanted})
        return _Column(self.columns[wanted])

    def __setitem__(self, name: str, value: Any) -> None:
        self.columns[name] = list(value.values)

    def __getattr__(self, name: str) -> Any:
        try:
            return self[name]
        except KeyError as error:
            raise AttributeError(name) from error

    def rename(self, columns: dict[str, str]) -> _Table:
        for name in columns:
            self[name]
        return _Table({columns.get(name, name): values for name, values in self.columns.items()})

    def merge(self, other: _Table, on: str) -> _Table:
        self[on], other[on]
        return _Table({**other.columns, **self.columns})

    def sort_values(self, by: str) -> _Table:
        self[by]
        return self

    def to_csv(self, path: str) -> None:
        WRITTEN[path] = set(self.columns)


class _Column:
    def __init__(self, values: list[float]) -> None:
        self.values = values

    def __add__(self, other: Any) -> _Column:
        return _Column([a + b for a, b in zip(self.values, other.values, strict=True)])


WRITTEN: dict[str, set[str]] = {}


class _Library:
    left_out: tuple[str, str] | None = None

    def read_csv(self, path: str) -> _Table:
        table = path.rpartition("/")[2].partition(".")[0]
        return _Table({c: [1.0, 2.0] for c in TABLES[table] if (table, c) != self.left_out})


def _scripts() -> Iterator[str]:
    for seed in range(80):
        rng = random.Random(seed)
        lines = ["import lib"]
        held: dict[str, list[str]] = {}
        for n in range(rng.randint(1, 3)):
            table = rng.choice(list(TABLES))
            lines.append(f't{n} = lib.read_csv("data/{table}.csv")')
            held[f"t{n}"] = list(TABLES[table])
        for _ in range(rng.randint(2, 6)):
            name = rng.choice(list(held))
            column, other = rng.choice(held[name]), rng.choice(held[name])
            new = f"made{rng.randint(0, 9)}"
            action = rng.randrange(5)
            if action == 0:
                lines.append(f'{name}["{new}"] = {name}["{column}"] + {name}.{other}')
                held[name] = [*dict.fromkeys([*held[name], new])]
            elif action == 1:
                lines.append(f'{name} = {name}.rename(columns={{"{column}": "{new}"}})')
                held[name] = [new if c == column else c for c in held[name] if c != new]
            elif action == 2:
                lines.append(f'{name} = {name}.sort_values(by="{column}")')
            elif action == 3:
                chosen = rng.sample(held[name], rng.randint(1, len(held[name])))
                lines.append(f"{name} = {name}[{chosen!r}]")
                held[name] = chosen
            else:
                lines.append(f'value = {name}["{column}"]')
        last = rng.choice(list(held))
        yield "\n".join([*lines, f'{last}.to_csv("out/result.csv")'])


def _fails(code: str, left_out: tuple[str, str] | None) -> bool:
    library = _Library()
    library.left_out = left_out
    try:
        exec(compile(code.replace("import lib\n", ""), "script", "exec"), {"lib": library})
    except (KeyError, AttributeError):
        return True
    return False


class CodeTests(unittest.TestCase):
    def test_every_column_without_which_code_fails_is_found(self) -> None:
        missed, found = [], 0
        for code in _scripts():
            self.assertFalse(_fails(code, None), code)
            frames = Frames()
            frames.read("/", "script", code)
            references, flows = frames.references()
            used = {(r.text, part.name) for r in references for part in r.parts or ()}
            passed = {(f.source, f.column) for f in flows if f.becomes and f.column != "*"}
            for table, columns in TABLES.items():
                for column in columns:
                    if _fails(code, (table, column)):
                        found += 1
                        one = (f"data/{table}.csv", column)
                        missed += [] if one in used | passed else [(code, table, column)]
        self.assertEqual(missed, [])
        self.assertGreater(found, 100)

    def test_what_is_written_and_under_which_names(self) -> None:
        for code in _scripts():
            WRITTEN.clear()
            self.assertFalse(_fails(code, None))
            frames = Frames()
            frames.read("/", "script", code)
            references, flows = frames.references()
            self.assertIn("out/result.csv", {r.text for r in references if r.writes})
            sources = {f.source for f in flows}
            dropped = {(f.source, f.column) for f in flows if not f.becomes}
            told = {f.becomes for f in flows if f.becomes and f.becomes != "*"} | {
                column
                for f in flows
                if f.becomes == "*"
                for column in TABLES[f.source.rpartition("/")[2].partition(".")[0]]
                if (f.source, column) not in dropped
            }
            self.assertLessEqual(WRITTEN["out/result.csv"], told, code)
            self.assertTrue(sources)

    def test_readers_of_several_libraries_and_paths_that_are_put_together(self) -> None:
        code = """
from pathlib import Path
import csv, duckdb, polars as pl
from prices import price
DATA = Path("data")
def load():
    return pl.scan_parquet(DATA / "tides.parquet")
high = load().filter(pl.col("height_m") > 3)
with open(f"{DATA}/fares.csv") as file:
    for row in csv.DictReader(file):
        print(row["fare"])
joined = duckdb.sql("select tide_window as tw from 'data/tides.csv'").df()
print(joined.tw)
high.write_parquet("out/high.parquet")
"""
        frames = Frames()
        frames.read("/", "script", code)
        references, _ = frames.references()
        used = {r.text: {part.name for part in r.parts or ()} for r in references if not r.writes}
        self.assertIn("height_m", used["data/tides.parquet"])
        self.assertEqual(used["data/fares.csv"], {"fare"})
        self.assertEqual(used["data/tides.csv"], {"tide_window"})
        self.assertEqual(used["prices.py"], {"price"})
        self.assertEqual([r.text for r in references if r.writes], ["out/high.parquet"])
        self.assertFalse(any(r.exact for r in references))

    def test_code_that_is_no_python_is_passed_over(self) -> None:
        frames = Frames()
        for code in ("print 'old'", "def (", "x = " + "(" * 5000, "\0", "%%bash\nls > out.txt"):
            frames.read("/", "cell", code)
        self.assertEqual(frames.references(), ([], []))


class _Given:
    """A graph that is given: who names whom, with which parts and flows."""

    def __init__(self, named: dict[str, FileReferences]) -> None:
        self._named = named

    def links_to(
        self, asked: Sequence[tuple[Node, frozenset[str] | None]], *, writes: bool = False
    ) -> list[list[Link]]:
        del writes
        return [self._links(node) for node, _ in asked]

    def _links(self, node: Node) -> list[Link]:
        links = []
        for path, named in self._named.items():
            meaning = tuple(r for r in named.names if r.text == node.path)
            if meaning and path != node.path:
                links.append(Link(Node("s", path), meaning, named))
        return links

    def links_from(self, node: Node, *, writes: bool) -> list[tuple[Reference, Node]]:
        named = self._named.get(node.path)
        return [(r, Node("s", r.text)) for r in named.names if r.writes == writes] if named is not None else []


def _script(code: str) -> FileReferences:
    frames = Frames()
    frames.read("/", "script", code)
    names, flows = frames.references()
    return FileReferences(names=[r for r in names if not r.text.endswith(".py")], offers=[], flows=flows)


class ImpactTests(unittest.TestCase):
    def hit(self, named: dict[str, FileReferences], column: str, depth: int = 9) -> list[tuple[int, str, bool]]:
        found = impact(_Given(named), Node("s", "a.csv"), WantedPart("a.csv", "column", column), depth, 100)
        return [(one.level, one.node.path, one.breaks) for one in found.reached]

    def test_a_chain_under_changing_names_and_whoever_takes_another_column(self) -> None:
        named = {
            "1.py": _script('t = lib.read_csv("a.csv")\nu = t.rename(columns={"x": "y"})\nu.to_csv("b.csv")'),
            "2.py": _script('t = lib.read_csv("b.csv")\nt["z"] = t["y"] + 1\nt[["z", "k"]].to_csv("c.csv")'),
            "3.py": _script('print(lib.read_csv("c.csv")["z"])'),
            "4.py": _script('print(lib.read_csv("c.csv")["k"])'),
            "5.py": _script('print(lib.read_csv("b.csv")["x"])'),
        }
        self.assertEqual(
            self.hit(named, "x"),
            [(1, "1.py", True), (2, "b.csv", False), (3, "2.py", True), (4, "c.csv", False), (5, "3.py", True)],
        )
        self.assertEqual([one[:2] for one in self.hit(named, "x", depth=1)], [(1, "1.py")])
        self.assertEqual(self.hit(named, "nothing of the kind"), [])

    def test_circles_end(self) -> None:
        named = {
            "1.py": _script('t = lib.read_csv("a.csv")\nprint(t.x)\nt.to_csv("b.csv")'),
            "2.py": _script('t = lib.read_csv("b.csv")\nprint(t.x)\nt.to_csv("a.csv")'),
        }
        self.assertEqual([one[1] for one in self.hit(named, "x", depth=20)], ["1.py", "b.csv", "2.py"])
        found = sources(_Given(named), Node("s", "a.csv"), 9, 100)
        first = found.reached[0]
        self.assertEqual((first.level, first.node.path, found.further, found.cut), (1, "2.py", False, False))

    def test_limits_are_told(self) -> None:
        named = {f"{n}.py": _script('print(lib.read_csv("a.csv").x)') for n in range(20)}
        found = impact(_Given(named), Node("s", "a.csv"), WantedPart("a.csv", "column", "x"), 3, 5)
        self.assertEqual((len(found.reached), found.further, found.cut), (5, False, True))
        found = impact(_Given(named), Node("s", "a.csv"), WantedPart("a.csv", "column", "x"), 3, 20)
        self.assertEqual((len(found.reached), found.further, found.cut), (20, False, False))
        chain = {f"{n}.py": _script(f'lib.read_csv("{n or "a"}.csv").to_csv("{n + 1}.csv")') for n in range(6)}
        found = impact(_Given(chain), Node("s", "a.csv"), None, 2, 100)
        self.assertEqual((found.further, found.cut), (True, False))
        given = _Given({f"{n}.py": _script(f'lib.read_csv("{n}.csv").to_csv("a.csv")') for n in range(9)})
        made_by = sources(given, Node("s", "a.csv"), 1, 5)
        self.assertEqual((len(made_by.reached), made_by.cut), (5, True))

    def test_a_part_with_a_type_is_not_another_of_the_same_name(self) -> None:
        step = Reference("a.cwl", "/step:x", "x", True, parts=(UsedPart("n", "input", "/step:x/source:n", "n", True),))
        named = {"flow.cwl": FileReferences(names=[step], offers=[])}
        for kind, expected in (("input", 1), ("output", 0)):
            found = impact(_Given(named), Node("s", "a.cwl"), WantedPart("a.cwl", kind, "n"), 3, 10)
            self.assertEqual(len(found.reached), expected)


class NameTests(unittest.TestCase):
    def test_names_of_files_in_texts(self) -> None:
        for text, expected in (
            ("see data/tides.csv.", ["data/tides.csv"]),
            ("('a.csv','b/c.parquet')", ["a.csv", "b/c.parquet"]),
            ("/var/b.csv and ../up.json", ["var/b.csv", "../up.json"]),
            ("x.csv.gz or y.csvx or z.py/inner", ["x.csv.gz"]),
            ("file:///srv//d.csv", ["d.csv"]),
            ("no ending", []),
        ):
            self.assertEqual(list(file_names(text)), expected, text)

    def test_long_runs_take_no_longer_than_they_are_long(self) -> None:
        # With one pattern for folders and ending each of these took over half a minute.
        for run in ("x" * 400_000, "a.b/c-d~e+" * 40_000, "/a/b/c" * 60_000):
            self.assertEqual(list(file_names(run)), [])

    def test_code_that_is_left_is_looked_through_by_its_words(self) -> None:
        cells = [("cell", "t = read_csv('a.csv')"), ("cell", "t[tide_window <- 3]"), ("cell", "print t.height")]
        parts = [Part("cell", code, str(n), code, {"source": code}) for n, (_, code) in enumerate(cells)]
        found = references_in(Part("notebook", "n", "", "", expand=lambda: parts), "notebook")
        link = Link(Node("s", "n.ipynb"), tuple(found.names), found)
        self.assertEqual([p.place for p in places_used(link, frozenset({"height"}))], ["/cell:2"])
        self.assertEqual([p.exact for p in places_used(link, frozenset({"height"}))], [False])


class KeyTests(unittest.TestCase):
    def test_what_a_name_cannot_mean_is_told_without_looking_for_all_it_may(self) -> None:
        rng = random.Random(7)
        names = ("a.csv", "d/a.csv", "../a.csv", "../d/a.csv", "./e/../a.csv", "/d/a.csv", "e/d/a.csv", "../../a.csv")
        every = ["a.csv", "d/a.csv", "d/e/a.csv", "e/a.csv", "e/d/a.csv", "f/e/d/a.csv"]
        meant = 0
        for _ in range(2000):
            paths = PathsOf(rng.sample(every, rng.randint(1, 3)))
            holder, named = rng.choice(("x.py", "d/x.py", "e/d/x.py")), Reference(rng.choice(names), "", "", True)
            name = tidied(named.text)
            found = files_meant(named, holder, paths)
            may = [path for path in every if paths.has(path) and may_mean(name, beside(holder, name), path, paths)]
            self.assertEqual(found, may, (named.text, holder, may))
            meant += len(found)
        self.assertGreater(meant, 500)

    def test_a_reference_and_its_target_share_a_key(self) -> None:
        offered = ["id:warn", "message:tide notice", "call:/notices/{}", "name:nightly load"]
        target = set(keys_for("data/Tides.csv", "dataset", offered))
        for named in (
            Reference("../data/Tides.csv", "", "", True),
            Reference("public.TIDES", "", "", False, "table"),
            Reference("Warn", "", "", True, "id"),
            Reference("Tide notice", "", "", True, "message"),
            Reference("Nightly load", "", "", True, "name"),
            Reference("/v1/notices/{}", "", "", True, "call"),
            Reference("data/Tides.csv", "", "", True, "address", shelf="s"),
        ):
            self.assertTrue(target.intersection(keys_of(named)), named)

    def test_forms_of_calls(self) -> None:
        for text in ("/notices/12", "/notices/{id}", "/notices/:id?x=1", "/notices/${id}/", "/notices/%s"):
            self.assertEqual(call_form(text), "/notices/{}")

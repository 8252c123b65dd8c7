"""Scripts, settings and reports: written differently is nothing, one change is one finding."""

from __future__ import annotations

import ast
import random
import sysconfig
import textwrap
import unittest
from pathlib import Path
from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from tests.support.factories import compared, told
from tests.support.figures import say
from tests.support.laws import law


def of(before: str, after: str, name: str, kind: str) -> dict[str, Any]:
    found = compared(before.encode(), after.encode(), name)
    assert (found["kind"], found["read_as"]) == (kind, kind), found["note"]
    return found


def brief(found: dict[str, Any]) -> list[tuple[Any, ...]]:
    return [(a, p, f) for a, p, f, _, _ in told(found)]


PYTHON = '''"""Delays by route."""
import csv
from pathlib import Path

LIMIT = 5


class Log:
    """The ship's log."""

    def __init__(self, path):
        self.path = Path(path)

    def rows(self):
        with self.path.open() as file:
            return list(csv.reader(file))


def late(rows, limit=LIMIT):
    # more than the limit
    return [row for row in rows if float(row[4]) > limit]
'''


class PythonTests(unittest.TestCase):
    """By syntax tree."""

    def test_layout_comments_and_quotes_mean_nothing(self) -> None:
        after = ast.unparse(ast.parse(PYTHON)) + "\n# checked\n"
        found = of(PYTHON, after, "delays.py", "script")
        self.assertEqual(found["findings"], [])
        self.assertEqual(found["note"], "written differently, means the same")

    def test_each_change_is_one_finding(self) -> None:
        for old, new, expected in (
            ("LIMIT = 5", "LIMIT = 7", ("changed", "/statement:LIMIT", "code")),
            ("> limit]", ">= limit]", ("changed", "/function:late", "code")),
            ("limit=LIMIT", "limit=10", ("changed", "/function:late", "signature")),
            ("import csv\n", "import csv\nimport json\n", ("added", "/import:json", None)),
            ("self.path = Path(path)", "self.path = path", ("changed", "/class:Log/function:__init__", "code")),
            ("class Log:", "class Log(Book):", ("added", "/class:Log", "bases")),
            ("def rows(self)", "def lines(self)", ("renamed", "/class:Log/function:lines", None)),
        ):
            with self.subTest(new=new):
                self.assertEqual(brief(of(PYTHON, PYTHON.replace(old, new), "delays.py", "script")), [expected])

    def test_docstring_is_cosmetic(self) -> None:
        found = of(PYTHON, PYTHON.replace("The ship's log.", "Every line of it."), "delays.py", "script")
        self.assertEqual([(f["field"], f["effect"]) for f in found["findings"]], [("docstring", "cosmetic")])

    def test_broken_script_is_compared_by_lines_and_says_where(self) -> None:
        found = compared(PYTHON.encode(), PYTHON.replace("def late(", "def late((").encode(), "delays.py")
        self.assertEqual(found["read_as"], "text")
        self.assertIn("line 19", found["note"])

    def test_modules_of_the_standard_library(self) -> None:
        folder = Path(sysconfig.get_paths()["stdlib"])
        checked = fell_back = exact = 0
        rng = random.Random(4)
        for path in rng.sample(sorted(folder.glob("*.py")), 60):
            text = path.read_text("utf-8", errors="replace")
            tree = ast.parse(text)
            found = compared(text.encode(), ast.unparse(tree).encode(), path.name)
            fell_back += found["read_as"] != "script"
            self.assertEqual(told(found), [], path.name)
            functions = [n for n in tree.body if isinstance(n, ast.FunctionDef)]
            if not functions:
                continue
            checked += 1
            chosen = rng.choice(functions)
            chosen.body.append(ast.parse("a_name_nobody_used = 1").body[0])
            findings = told(compared(text.encode(), ast.unparse(tree).encode(), path.name))
            exact += [(p, f) for _, p, f, _, _ in findings] in (
                [(f"/function:{chosen.name}", "code")],
                [(f"/function:{chosen.name} (2)", "code")],
            )
        say(f"script: {checked} single changes of modules, {exact} told exactly, {fell_back} fell back to text")
        self.assertEqual((fell_back, exact), (0, checked))
        self.assertGreater(checked, 20)


SQL = """-- fares
CREATE TABLE fares (zone INTEGER PRIMARY KEY, price DECIMAL(6,2) NOT NULL, class TEXT);
INSERT INTO fares (zone, price) VALUES (1, 4.50);
SELECT zone, SUM(price) AS total FROM fares WHERE class = 'adult' GROUP BY zone;
"""


class SqlTests(unittest.TestCase):
    """By statement."""

    def test_case_of_keywords_layout_and_comments_mean_nothing(self) -> None:
        after = (
            "create table FARES (\n  zone integer primary key,\n  price decimal(6,2) not null,\n  class text\n);\n"
            + SQL.split(";\n", 1)[1].replace("SELECT", "select /* all */")
        )
        self.assertEqual(of(SQL, after, "fares.sql", "script")["findings"], [])

    def test_each_change_is_one_finding(self) -> None:
        table = "/statement:create table fares"
        for old, new, expected in (
            ("DECIMAL(6,2)", "DECIMAL(8,2)", ("changed", f"{table}/column:price", "type")),
            (", class TEXT", "", ("removed", f"{table}/column:class", None)),
            ("'adult'", "'child'", ("changed", "/statement:#3", "code")),
            ("INSERT INTO fares (zone, price) VALUES (1, 4.50);\n", "", ("removed", "/statement:#2", None)),
        ):
            with self.subTest(new=new):
                self.assertEqual(brief(of(SQL, SQL.replace(old, new), "fares.sql", "script")), [expected])

    def test_what_no_parser_knows_is_compared_by_lines(self) -> None:
        found = compared(b"SELECT FROM WHERE ((;\n", b"SELECT FROM WHERE ((;\nx\n", "odd.sql")
        self.assertEqual(found["read_as"], "text")


BASIC = """Attribute VB_Name = "Berths"
Option Explicit
' the longest ship
Const MaxLength = 40

Public Sub Book(ship As String, _
                length As Double)
    If length > MaxLength Then MsgBox "Too Long"
End Sub

Private Function Price(length As Double) As Double
    Price = length * 1.5
End Function
"""


class BasicTests(unittest.TestCase):
    """By procedure."""

    def test_case_comments_continued_lines_and_order_mean_nothing(self) -> None:
        head, book, price = (
            BASIC.partition("Public Sub")[0],
            "Public Sub" + BASIC.partition("Public Sub")[2].partition("\nPrivate")[0],
            "Private" + BASIC.partition("\nPrivate")[2],
        )
        after = (
            head
            + price
            + "\n"
            + book.replace(" _\n                ", " ").replace("length", "LENGTH").replace("If", "  if")
            + "\nRem the end\n"
        )
        self.assertEqual(told(of(BASIC, after, "Berths.bas", "script")), [])

    def test_text_in_quotes_counts(self) -> None:
        self.assertEqual(
            brief(of(BASIC, BASIC.replace("Too Long", "too long"), "Berths.bas", "script")),
            [("changed", "/procedure:sub book", "code")],
        )

    def test_each_change_is_one_finding(self) -> None:
        for old, new, expected in (
            ("1.5", "1.75", ("changed", "/procedure:function price", "code")),
            ("MaxLength = 40", "MaxLength = 45", ("changed", "/declaration:#2", "code")),
            ("length As Double)\n", "length As Single)\n", ("changed", "/procedure:sub book", "signature")),
        ):
            with self.subTest(new=new):
                self.assertEqual(brief(of(BASIC, BASIC.replace(old, new, 1), "Berths.bas", "script")), [expected])


SHELL = "#!/bin/sh\n# nightly\nset -e\ncp log.csv copy.csv   # keep one\nprintf '%s # %s' a b\n"
JAVASCRIPT = "// fares\nexport function fare(zone) {\n  /* by zone */\n  return zone * 4; // euros\n}\nconst url = 'http://skerry.example/a';\n"


class LineTests(unittest.TestCase):
    """Other languages by lines; white space and comments told apart."""

    def test_comments_and_blanks_are_cosmetic(self) -> None:
        for name, before, after in (
            ("nightly.sh", SHELL, SHELL.replace("# nightly", "# every night").replace("# keep one", "# keep a copy")),
            (
                "fares.js",
                JAVASCRIPT,
                JAVASCRIPT.replace("// euros", "// in euros")
                .replace("by zone", "by the\n zone")
                .replace("  return", "    return"),
            ),
        ):
            with self.subTest(name=name):
                found = compared(before.encode(), after.encode(), name)
                self.assertEqual((told(found), found["kind"]), ([], "script"))
                self.assertTrue(found["findings"])

    def test_marks_inside_texts_are_no_comments(self) -> None:
        for name, before, old, new in (
            ("nightly.sh", SHELL, "# %s'", "# %d'"),
            ("fares.js", JAVASCRIPT, "//skerry.example/a", "//skerry.example/b"),
        ):
            found = compared(before.encode(), before.replace(old, new).encode(), name)
            self.assertEqual([f["effect"] for f in found["findings"]], ["alters"])


class SettingsTests(unittest.TestCase):
    """Keys and values in every form."""

    FORMS = {
        "ferry.ini": (
            "; stand\n[fares]\nadult = 4.50\nchild=2.25\n\n[desk]\nopen : 08:00\n",
            "[desk]\nopen = 08:00\n[fares]\nchild = 2.25\n# new\nadult = 4.50\n",
            "4.50",
            "/group:fares",
            "adult",
        ),
        "ferry.env": (
            "# desk\nADULT=4.50\nexport CHILD='2.25'\n",
            'CHILD="2.25"\n\nADULT=4.50\n',
            "4.50",
            "/",
            "ADULT",
        ),
        "ferry.properties": (
            "# desk\nfares.adult = 4.50\nfares.child: 2.25\nname=Sk\\u00e4r\n",
            "name=Skär\nfares.child=2.25\n! x\nfares.adult=4.50\n",
            "4.50",
            "/",
            "fares.adult",
        ),
        "ferry.toml": (
            "[fares]\nadult = 4.50\nchild = 2.25\n",
            "fares = { child = 2.25, adult = 4.5 }\n",
            "4.5",
            "/group:fares",
            "adult",
        ),
        "ferry.xml": (
            '<s><fares adult="4.50" child="2.25"/></s>',
            "<s>\r\n  <fares child='2.25' adult='4.50'></fares>\n</s>",
            "4.50",
            "/fares:#1",
            "adult",
        ),
    }

    def test_order_comments_and_quotes_mean_nothing(self) -> None:
        for name, (before, after, *_) in self.FORMS.items():
            with self.subTest(name=name):
                self.assertEqual(told(of(before, after, name, "settings")), [])

    def test_changed_value_is_one_finding_at_its_key(self) -> None:
        for name, (before, after, value, part, field) in self.FORMS.items():
            with self.subTest(name=name):
                found = told(of(before, after.replace(value, "5.25"), name, "settings"))
                self.assertEqual([(a, f) for a, _, f, _, _ in found], [("changed", field)])
                self.assertEqual(found[0][1].partition(":#")[0], part.partition(":#")[0])

    def test_mistakes_name_their_line(self) -> None:
        for name, text, words in (
            ("f.ini", "[a]\nx=1\nx=2\n", "appears twice"),
            ("f.env", "A=1\nA=2\n", "appears twice"),
            ("f.properties", "a=1\na=2\n", "appears twice"),
            ("f.ini", "[a\nx\n", "compared as text"),
        ):
            with self.subTest(name=name, text=text):
                found = compared(text.encode(), (text + "y=3\n").encode(), name)
                self.assertEqual(found["read_as"], "text")
                self.assertIn(words, found["note"])


MARKDOWN = """# Winter plan

Boats leave at *eight*. In fog they wait
for the pilot.

## Crew

- Maren
- Tobias

| day | boat |
|-----|------|
| Mon | Gull |

```sh
make plan
```
"""
HTML = """<html><head><title>Plan</title><style>p {color: red}</style></head><body>
<h1 class="big">Winter plan</h1><p>Boats leave at <b>eight</b>.</p>
<ul><li>Maren</li><li>Tobias</li></ul><p><a href="fares.html">Fares</a></p></body></html>
"""


class ReportTests(unittest.TestCase):
    """Sections and blocks."""

    def test_wrapping_and_markers_mean_nothing(self) -> None:
        after = (
            MARKDOWN.replace("In fog they wait\nfor", "In fog\nthey wait for")
            .replace("- ", "* ")
            .replace("# Winter plan\n", "Winter plan\n===========\n")
            .replace("|-----|------|", "|:--|--:|")
        )
        self.assertEqual(told(of(MARKDOWN, after, "plan.md", "report")), [])
        self.assertEqual(
            told(of(HTML, HTML.replace("\n", "").replace('class="big"', "class='large' id=a"), "plan.html", "report")),
            [],
        )

    def test_each_change_is_one_finding(self) -> None:
        for name, text, old, new, expected in (
            ("plan.md", MARKDOWN, "*eight*", "*nine*", ("changed", "/section:Winter plan/paragraph:#1", "text")),
            (
                "plan.md",
                MARKDOWN,
                "- Tobias\n",
                "- Tobias\n- Ines\n",
                ("added", "/section:Winter plan/section:Crew/item:#3", None),
            ),
            (
                "plan.md",
                MARKDOWN,
                "make plan",
                "make all",
                ("changed", "/section:Winter plan/section:Crew/code:#1", "text"),
            ),
            ("plan.md", MARKDOWN, "## Crew", "## People", ("renamed", "/section:Winter plan/section:People", None)),
            (
                "plan.html",
                HTML,
                "<b>eight</b>",
                "<b>nine</b>",
                ("changed", "/section:Winter plan/paragraph:#1", "text"),
            ),
            ("plan.html", HTML, "fares.html", "prices.html", ("changed", "/section:Winter plan/link:#1", "href")),
            ("plan.html", HTML, "<li>Tobias</li>", "", ("removed", "/section:Winter plan/item:#2", None)),
        ):
            with self.subTest(name=name, new=new):
                self.assertEqual(brief(of(text, text.replace(old, new), name, "report")), [expected])

    def test_published_markdown_rewrapped(self) -> None:
        folder = Path(__file__).parents[3] / "console" / "node_modules"
        files = random.Random(3).sample(sorted(p for p in folder.glob("*/README.md") if p.stat().st_size < 60_000), 40)
        fell_back = 0
        for path in files:
            text = path.read_text("utf-8", errors="replace")
            found = compared(text.encode(), text.replace("\n", "\r\n").encode(), path.name)
            fell_back += found["read_as"] != "report"
            self.assertEqual(told(found), [], path)
        say(f"report: {len(files)} published files, {fell_back} fell back to text")
        self.assertEqual(fell_back, 0)

    def test_pictures_in_svg_are_compared_by_element(self) -> None:
        svg = '<svg xmlns="http://www.w3.org/2000/svg"><g id="sea"><path id="a" d="M0 0L9 9"/></g><text>Skerry</text></svg>'
        found = of(svg, svg.replace("L9 9", "L8 9"), "map.svg", "report")
        self.assertEqual([(f, b, c) for _, _, f, b, c in told(found)], [("d", "M0 0L9 9", "M0 0L8 9")])

    @law(50)
    @given(st.randoms(use_true_random=False))
    def test_each_single_edit_is_exactly_its_finding(self, rng: random.Random) -> None:
        blocks = [" ".join(f"w{k}x{n}" for n in range(rng.randint(4, 30))) for k in range(rng.randint(2, 12))]
        other = list(blocks)
        place = rng.randrange(len(blocks))
        edit = rng.choice(["word", "add", "drop"])
        if edit == "word":
            words = other[place].split()
            words[rng.randrange(len(words))] = "quite-new"
            other[place], expected = " ".join(words), [("changed", "text")]
        elif edit == "add":
            other.insert(place, "nothing like the others at all")
            expected = [("added", None)]
        else:
            other.pop(place)
            expected = [("removed", None)]
        width = rng.randint(20, 90)
        wrapped = "\n\n".join("\n".join(textwrap.wrap(b, width)) for b in other)
        found = compared(("# T\n\n" + "\n\n".join(blocks)).encode(), ("# T\n\n" + wrapped).encode(), "t.md")
        self.assertEqual([(a, f) for a, _, f, _, _ in told(found)], expected)

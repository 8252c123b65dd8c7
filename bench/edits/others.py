"""A notebook, a table, a feature and a plain text."""

from __future__ import annotations

import csv
import io
import json
import random
from typing import Any

from bench.edits.flows import WORDS, put_behind
from bench.edits.model import Edit, Format, with_value

# --- notebooks ----------------------------------------------------------------


def _notebook(dice: random.Random) -> Any:
    cells = []
    for n in range(dice.randint(12, 40)):
        code = dice.random() < 0.7
        lines = [
            f"{dice.choice(WORDS)}_{n}_{k} = read('{dice.choice(WORDS)}', {k})"
            if code
            else f"Words about {dice.choice(WORDS)} {n} {k}."
            for k in range(dice.randint(2, 9))
        ]
        cell: dict[str, Any] = {
            "cell_type": "code" if code else "markdown",
            "id": f"cell-{n}",
            "metadata": {},
            "source": [f"{line}\n" for line in lines[:-1]] + lines[-1:],
        }
        if code:
            cell |= {
                "execution_count": n,
                "outputs": [{"name": "stdout", "output_type": "stream", "text": [f"out {n}\n"]}],
            }
        cells.append(cell)
    return {
        "cells": cells,
        "metadata": {"kernelspec": {"language": "python", "name": "python3"}},
        "nbformat": 4,
        "nbformat_minor": 5,
    }


def _cell(model: Any, key: str) -> Any:
    return next(c for c in model["cells"] if c["id"] == key)


def _notebook_edit(dice: random.Random, model: Any, mark: str) -> Edit:
    cells = model["cells"]
    n = dice.randrange(len(cells))
    key = cells[n]["id"]
    what = dice.choice(["line", "line", "line", "insert", "add", "drop", "move", "tags"])
    if what in ("line", "insert"):
        count = len(cells[n]["source"])
        at = dice.randrange(count - 1) if what == "line" else dice.randrange(max(1, count - 2)) + 0
        touched = frozenset({(key, at), (key, at + 1), (key, at - 1), (key, "side", mark[0] == "t" or mark[0])})
        mine = frozenset({(key, "source")})  # outputs follow the side whose source won, so only one side edits a cell

        def change(m: Any) -> None:
            source = _cell(m, key)["source"]
            source.insert(at, f"inserted = '{mark}'\n") if what == "insert" else source.__setitem__(
                at, f"changed = '{mark}'\n"
            )

        return Edit(f"{key} {what} {at}", touched | mine, change)
    if what == "add":
        new: Any = {
            "cell_type": "code",
            "id": f"new-{mark}",
            "metadata": {},
            "source": [f"fresh = '{mark}'\n", "fresh.show()"],
            "execution_count": None,
            "outputs": [],
        }
        return Edit(
            f"+cell after {key}",
            frozenset({("after", key), ("stays", key)}),
            lambda m: m["cells"].insert(m["cells"].index(_cell(m, key)) + 1, json.loads(json.dumps(new))),
        )
    if what == "drop":
        touched = frozenset(
            {(key, "source"), (key, "tags"), ("stays", key), ("after", key), ("after", cells[n - 1]["id"]), ("order",)}
        )
        return Edit(f"-cell {key}", touched, lambda m: m["cells"].remove(_cell(m, key)))
    if what == "move" and len(cells) > 6:
        to = dice.randrange(len(cells))
        if abs(to - n) > 1:
            anchor = cells[to]["id"]
            near = {n, n - 1, to, to - 1, min(to + 1, len(cells) - 1)}
            touched = frozenset(
                [("order",), *(("after", cells[k]["id"]) for k in near), *(("stays", cells[k]["id"]) for k in near)]
            )
            return Edit(f"move {key}", touched, lambda m: put_behind(m["cells"], _cell(m, key), _cell(m, anchor)))
    return Edit(
        f"{key} tags",
        frozenset({(key, "tags")}),
        lambda m: _cell(m, key)["metadata"].__setitem__("tags", [f"tag-{mark}"]),
    )


def _notebook_same(dice: random.Random, model: Any) -> tuple[Edit, Edit]:
    cell = dice.choice(model["cells"])
    key, at = cell["id"], dice.randrange(len(cell["source"]))
    touched = frozenset({(key, "source"), ("stays", key), (key, "tags")})
    edits = [
        Edit(
            f"{key} line {at}",
            touched,
            with_value(
                v,
                lambda m, v: _cell(m, key)["source"].__setitem__(
                    at, f"{v} = 1" + ("\n" if cell["source"][at].endswith("\n") else "")
                ),
            ),
        )
        for v in ("one", "other")
    ]
    return edits[0], edits[1]


NOTEBOOK = Format(
    "notebook",
    "fares.ipynb",
    _notebook,
    _notebook_edit,
    _notebook_same,
    lambda m: json.dumps(m, indent=1) + "\n",
    json.loads,
)

# --- tables ---------------------------------------------------------------------


def _table(dice: random.Random) -> Any:
    columns = ["passage_id", "route", "vessel", "fare", "passengers", "remark", "cargo_kg"]
    rows = [
        {
            "passage_id": str(1000 + n),
            "route": dice.choice(WORDS),
            "vessel": dice.choice(WORDS),
            "fare": f"{dice.randint(3, 90)}.{dice.randint(0, 99):02d}",
            "passengers": str(dice.randint(0, 300)),
            "remark": dice.choice(["", "", f"late, {dice.choice(WORDS)}", f'said "{dice.choice(WORDS)}"']),
            "cargo_kg": str(dice.randint(0, 9000)),
        }
        for n in range(dice.randint(150, 600))
    ]
    return {"columns": columns, "rows": rows}


def _row(model: Any, key: str) -> Any:
    return next(r for r in model["rows"] if r["passage_id"] == key)


def _table_edit(dice: random.Random, model: Any, mark: str) -> Edit:
    n = dice.randrange(len(model["rows"]))
    key = model["rows"][n]["passage_id"]
    column = dice.choice(model["columns"][1:])
    what = dice.choice(["cell"] * 6 + ["add row", "drop row", "add column", "drop column", "rename column"])
    if what == "add row":

        def add(m: Any) -> None:
            m["rows"].insert(
                m["rows"].index(_row(m, key)) + 1,
                {
                    c: f"new {mark}" if c != "passage_id" else f"9{len(mark)}{ord(mark[0])}{mark[1:]}"
                    for c in m["columns"]
                    if c in model["columns"]
                }
                | {c: "" for c in m["columns"] if c not in model["columns"]},
            )

        return Edit(f"+row after {key}", frozenset({("after", key), ("stays", key), "columns gone"}), add)
    if what == "drop row":
        touched = frozenset(
            [(key, c) for c in model["columns"]]
            + [("stays", key), ("after", key), ("after", model["rows"][n - 1]["passage_id"])]
        )
        return Edit(f"-row {key}", touched, lambda m: m["rows"].remove(_row(m, key)))
    if what == "add column":

        def new_column(m: Any) -> None:
            m["columns"].insert(m["columns"].index(column) + 1, f"extra_{mark}")
            for row in m["rows"]:
                row[f"extra_{mark}"] = str(int(row["passage_id"]) % 7) if row["passage_id"][0] == "1" else ""

        return Edit(
            f"+column after {column}", frozenset({("column", column), "columns gone", "order of rows"}), new_column
        )
    if what == "drop column":

        def drop(m: Any) -> None:
            m["columns"].remove(column)
            for row in m["rows"]:
                row.pop(column, None)

        return Edit(
            f"-column {column}",
            frozenset([("column", c) for c in model["columns"]] + ["columns gone", ("used", column)]),
            drop,
        )
    if what == "rename column":

        def rename(m: Any) -> None:
            m["columns"][m["columns"].index(column)] = f"{column}_renamed"
            for row in m["rows"]:
                row[f"{column}_renamed"] = row.pop(column)

        return Edit(
            f"rename column {column}",
            frozenset([("column", c) for c in model["columns"]] + [("renamed", column), "columns gone"]),
            rename,
        )
    return Edit(
        f"{key}.{column}",
        frozenset({(key, column), ("used", column), ("renamed", column), ("stays-cell", key)}),
        lambda m: _row(m, key).__setitem__(column, f"cell {mark}"),
    )


def _table_same(dice: random.Random, model: Any) -> tuple[Edit, Edit]:
    key = dice.choice(model["rows"])["passage_id"]
    column = dice.choice(model["columns"][1:])
    touched = frozenset(
        [
            (key, column),
            ("stays", key),
            ("used", column),
            ("renamed", column),
            "columns gone",
            *(("column", c) for c in model["columns"]),
        ]
    )
    edits = [
        Edit(f"{key}.{column}", touched, with_value(v, lambda m, v: _row(m, key).__setitem__(column, v)))
        for v in ("one", "other")
    ]
    return edits[0], edits[1]


def _csv(model: Any) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(model["columns"])
    writer.writerows([row[c] for c in model["columns"]] for row in model["rows"])
    return out.getvalue()


TABLE = Format(
    "CSV", "passages.csv", _table, _table_edit, _table_same, _csv, lambda t: list(csv.reader(io.StringIO(t)))
)

# --- features --------------------------------------------------------------------


def _feature(dice: random.Random) -> Any:
    scenarios = []
    for n in range(dice.randint(8, 30)):
        steps = [
            f"{w} the {dice.choice(WORDS)} {n} {k}"
            for k, w in enumerate(["Given", "And", "When", "Then", "And"][: dice.randint(3, 5)])
        ]
        outline = dice.random() < 0.3
        table = (
            [[f"p{n}_{k}", str(dice.randint(1, 90)), dice.choice(WORDS)] for k in range(dice.randint(2, 7))]
            if outline
            else []
        )
        scenarios.append(
            {
                "title": f"{dice.choice(WORDS)} case {n}",
                "tags": [f"@t{n % 4}"],
                "steps": [*steps, *(["Then it costs <fare>"] if outline else [])],
                "examples": table,
            }
        )
    return {"title": "Boarding", "scenarios": scenarios}


def _scenario(model: Any, title: str) -> Any:
    return next(s for s in model["scenarios"] if s["title"] == title)


def _feature_edit(dice: random.Random, model: Any, mark: str) -> Edit:
    scenarios = model["scenarios"]
    n = dice.randrange(len(scenarios))
    title, held = scenarios[n]["title"], scenarios[n]
    what = dice.choice(["step", "step", "step", "add step", "drop step", "tag", "cell", "cell", "row", "add", "drop"])
    at = dice.randrange(len(held["steps"]))
    if what == "step":
        return Edit(
            f"{title} step {at}",
            frozenset({(title, at)}),
            lambda m: _scenario(m, title)["steps"].__setitem__(
                _scenario(m, title)["steps"].index(held["steps"][at]), f"And changed by {mark}"
            ),
        )
    if what == "add step":
        return Edit(
            f"{title} +step {at}",
            frozenset({(title, at), (title, "steps")}),
            lambda m: _scenario(m, title)["steps"].insert(
                _scenario(m, title)["steps"].index(held["steps"][at]) + 1, f"And added by {mark}"
            ),
        )
    if what == "drop step" and len(held["steps"]) > 3:
        touched = frozenset({(title, at), (title, at - 1), (title, at + 1), (title, "steps")})
        return Edit(f"{title} -step {at}", touched, lambda m: _scenario(m, title)["steps"].remove(held["steps"][at]))
    if what == "tag":
        return Edit(
            f"{title} +tag", frozenset({(title, "tags")}), lambda m: _scenario(m, title)["tags"].append(f"@{mark}")
        )
    if what in ("cell", "row") and held["examples"]:
        k, column = dice.randrange(len(held["examples"])), dice.randrange(1, 3)
        key = held["examples"][k][0]
        if what == "cell":
            return Edit(
                f"{title} example {key}.{column}",
                frozenset({(title, key, column)}),
                lambda m: next(r for r in _scenario(m, title)["examples"] if r[0] == key).__setitem__(
                    column, f"wide value {mark}"
                ),
            )
        return Edit(
            f"{title} +example after {key}",
            frozenset({(title, "rows")}),
            lambda m: _scenario(m, title)["examples"].insert(k + 1, [f"n_{mark}", "1", "new"]),
        )
    if what == "add":
        new = {
            "title": f"new case {mark}",
            "tags": ["@new"],
            "steps": [f"Given {mark}", "When it happens", "Then so be it"],
            "examples": [],
        }
        return Edit(
            f"+scenario after {title}",
            frozenset({("after", title), ("stays", title)}),
            lambda m: m["scenarios"].insert(m["scenarios"].index(_scenario(m, title)) + 1, json.loads(json.dumps(new))),
        )
    if what == "drop":
        own: list[tuple[Any, ...]] = [(title, k) for k in range(-1, 8)]
        own += [(title, r[0], c) for r in held["examples"] for c in (1, 2)]
        touched = frozenset(
            [
                *own,
                (title, "steps"),
                (title, "tags"),
                (title, "rows"),
                ("stays", title),
                ("after", title),
                ("after", scenarios[n - 1]["title"]),
            ]
        )
        return Edit(f"-scenario {title}", touched, lambda m: m["scenarios"].remove(_scenario(m, title)))
    return Edit("title", frozenset({"title"}), lambda m: m.__setitem__("title", f"Boarding {mark}"))


def _feature_same(dice: random.Random, model: Any) -> tuple[Edit, Edit]:
    held = dice.choice(model["scenarios"])
    title, at = held["title"], dice.randrange(len(held["steps"]))
    touched = frozenset([(title, k) for k in range(-1, 8)] + [(title, "steps"), ("stays", title)])
    edits = [
        Edit(
            f"{title} step {at}",
            touched,
            with_value(v, lambda m, v: _scenario(m, title)["steps"].__setitem__(at, f"And it is {v}")),
        )
        for v in ("one", "another")
    ]
    return edits[0], edits[1]


def _gherkin(model: Any) -> str:
    out = [f"Feature: {model['title']}", "", "  Everything about going aboard.", ""]
    for scenario in model["scenarios"]:
        keyword = "Scenario Outline" if scenario["examples"] else "Scenario"
        out += [
            f"  {' '.join(scenario['tags'])}",
            f"  {keyword}: {scenario['title']}",
            *(f"    {s}" for s in scenario["steps"]),
        ]
        if scenario["examples"]:
            table = [["passenger", "fare", "quay"], *scenario["examples"]]
            widths = [max(len(r[c]) for r in table) for c in range(3)]
            out += [
                "",
                "    Examples:",
                *("      | " + " | ".join(v.ljust(w) for v, w in zip(r, widths, strict=True)) + " |" for r in table),
            ]
        out.append("")
    return "\n".join(out)


def _gherkin_read(text: str) -> Any:
    """Lines without what only aligns."""
    lines = []
    for line in text.splitlines():
        bare = line.strip()
        lines.append([c.strip() for c in bare.strip("|").split("|")] if bare.startswith("|") else bare)
    return [line for line in lines if line]


FEATURE = Format("Gherkin", "boarding.feature", _feature, _feature_edit, _feature_same, _gherkin, _gherkin_read)

# --- text ---------------------------------------------------------------------------


def _text(dice: random.Random) -> Any:
    lines: list[list[str]] = []
    for n in range(dice.randint(120, 400)):
        lines.append(
            [
                str(n),
                ""
                if dice.random() < 0.15
                else f"The {dice.choice(WORDS)} of the {dice.choice(WORDS)} at the {dice.choice(WORDS)}.",
            ]
        )
    return lines


def _text_edit(dice: random.Random, model: Any, mark: str) -> Edit:
    n = dice.randrange(1, len(model) - 2)
    key = model[n][0]
    what = dice.choice(["change", "change", "insert", "drop"])
    near = frozenset({("line", int(key) + k) for k in ((0,) if what == "change" else (-1, 0, 1))})

    def place(m: Any) -> int:
        return next(i for i, line in enumerate(m) if line[0] == key)

    if what == "change":
        return Edit(f"line {key}", near, lambda m: m[place(m)].__setitem__(1, f"Changed by {mark}."))
    if what == "insert":
        return Edit(f"+line after {key}", near, lambda m: m.insert(place(m) + 1, [f"new {mark}", f"Added by {mark}."]))
    return Edit(f"-line {key}", near, lambda m: m.pop(place(m)))


def _text_same(dice: random.Random, model: Any) -> tuple[Edit, Edit]:
    n = dice.randrange(len(model))
    touched = frozenset({("line", n + k) for k in (-1, 0, 1)})
    edits = [
        Edit(f"line {n}", touched, with_value(v, lambda m, v: next(x for x in m if x[0] == str(n)).__setitem__(1, v)))
        for v in ("One thing.", "Another.")
    ]
    return edits[0], edits[1]


TEXT = Format(
    "text", "notes.txt", _text, _text_edit, _text_same, lambda m: "".join(f"{t}\n" for _, t in m), str.splitlines
)

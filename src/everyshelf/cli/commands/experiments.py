"""``experiment``: questions tried on branches, and their runs side by side."""

from __future__ import annotations

from typing import Any

import click

from everyshelf.cli import terminal
from everyshelf.cli.csv_output import csv_text
from everyshelf.cli.options import Commands, shelf_options
from everyshelf.cli.session import open_shelf, take_command


@click.group("experiment", cls=Commands)
def experiment() -> None:
    """State a question, try it on a branch, compare runs, then adopt or abandon it."""


@experiment.command("list")
@click.option("--words", default="", help="Only those with these words in their question, key or branch.")
@click.option(
    "--state",
    type=click.Choice(["open", "adopted", "abandoned", "all"]),
    default="all",
    show_default=True,
    help="Which experiments.",
)
@shelf_options
def experiment_list(shelf_key: str | None, address: str | None, words: str, state: str, as_json: bool) -> None:
    """List experiments of the shelf, open ones first."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.experiments(words, state)
    if as_json:
        terminal.print_json(found)
        return
    if state == "all":
        still = sum(e["state"] == "open" for e in found)
        terminal.say(terminal.bold(terminal.count(len(found), "experiment")) + f", {still or 'none'} open.")
    else:
        terminal.say(terminal.bold(terminal.count(len(found), f"{state} experiment")) + ".")
    for one in found:
        runs = terminal.count(one["runs_made"], "run")
        terminal.say(
            terminal.line(
                (2, one["state"]), (terminal.KIND, terminal.bold(one["key"])), (40, one["branch"]), (70, runs)
            )
        )
        terminal.paragraph(one["question"], indent=terminal.KIND)
        if said := one["reason"] or one["answer"]:
            terminal.paragraph(terminal.dim(said), indent=terminal.KIND)
    if found:
        terminal.next_step(f"everyshelf experiment show {found[0]['key']}")
    elif not words and state == "all":
        terminal.next_step('everyshelf experiment begin "QUESTION"')


@experiment.command("begin")
@click.argument("question")
@click.option("--key", default="", help="Short name; default: made from the question.")
@click.option("--branch", default="", help="Branch to try it on, created if it does not exist; default: YOU/KEY.")
@click.option("--at", "start", default="", metavar="REF", help="State the branch starts at; default: the main branch.")
@click.option("--into", "target", default="", help="Branch to adopt it into; default: the main branch.")
@click.option("--metric", "primary", default="", help="The metric that answers the question.")
@shelf_options
def experiment_begin(
    question: str,
    key: str,
    branch: str,
    start: str,
    target: str,
    primary: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Begin an experiment for QUESTION on its own branch."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.begin_experiment(question, key=key, branch=branch, start=start, target=target, primary=primary)
    if as_json:
        terminal.print_json(made)
        return
    terminal.say(terminal.bold(f"Experiment {made['key']} begins") + f", on the branch {made['branch']}.")
    terminal.next_step(take_command(shelf.key, made["key"], made["branch"]))


@experiment.command("show")
@click.argument("key")
@click.option("--against", "base", type=int, help="Run to compare with; default: the first.")
@click.option("--csv", "as_csv", is_flag=True, help="Print the table of runs as CSV.")
@click.option("--differing", is_flag=True, help="Only columns that differ.")
@click.option("--sort", default="", metavar="COLUMN", help="Order runs by a parameter or metric.")
@shelf_options
def experiment_show(
    key: str,
    base: int | None,
    as_csv: bool,
    differing: bool,
    sort: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show the experiment KEY with its runs side by side; ≠ marks differences from the base run, ◆ the best."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.experiment(key, base)
    if as_json:
        terminal.print_json(found)
        return
    columns = [c for c in found["columns"] if c["differs"] or not differing]
    runs = _sorted(found, sort)
    if as_csv:
        click.echo(_csv(columns, runs), nl=False)
        return
    terminal.say(terminal.bold(found["question"]))
    by = f"asked by {found['created_by']}, on {found['branch']}"
    state = {
        "open": by,
        "adopted": f"adopted: proposal {found['proposal']}",
        "abandoned": f"abandoned: {found['reason']}",
    }
    terminal.say(f"  {found['answer']} {state[found['state']][:1].upper()}{state[found['state']][1:]}.")
    _print_runs(found, columns, runs)
    if found["state"] == "open":
        terminal.next_step(
            f"everyshelf experiment adopt {key}" if runs else take_command(shelf.key, key, found["branch"])
        )


def _sorted(found: dict[str, Any], sort: str) -> list[dict[str, Any]]:
    runs: list[dict[str, Any]] = found["runs"]
    if not sort:
        return runs
    column = next((c for c in found["columns"] if c["name"] == sort), None)
    if column is None:
        names = ", ".join(c["name"] for c in found["columns"])
        raise click.UsageError(f"there is no column {sort!r}; there are {names or 'none'}")

    def place(run: dict[str, Any]) -> tuple[bool, Any, str]:
        value = run["cells"][column["group"]].get(sort, {}).get("value")
        number = value if isinstance(value, int | float) and not isinstance(value, bool) else None
        return value is None, (float("inf") if number is None else number), str(value)

    return sorted(runs, key=place, reverse=column["better"] == "higher")


def _print_runs(found: dict[str, Any], columns: list[dict[str, Any]], runs: list[dict[str, Any]]) -> None:
    """As many columns as the terminal is wide, all of them elsewhere; the rest is in --csv and --json."""
    room = terminal.width()
    cells = [[_cell(run, column) for column in columns] for run in runs]
    widths = [max(len(_head(c)), *(len(row[k]) for row in cells), 0) if cells else 0 for k, c in enumerate(columns)]
    branch_wide = 25 if room is not None else max((len(run["branch"]) for run in runs), default=25)
    shown, place = [], max(34, branch_wide + 9)
    for k, width in enumerate(widths):
        if room is not None and place + width > room:
            break
        shown.append((k, place, width))
        place += width + 2
    if runs:
        heads = [(at + width - len(_head(columns[k])), terminal.dim(_head(columns[k]))) for k, at, width in shown]
        terminal.say(terminal.line((2, terminal.dim("run")), (7, terminal.dim("branch")), *heads))
    for run, row in zip(runs, cells, strict=True):
        mark = terminal.bold(str(run["number"])) + ("·" if run["number"] == found["base"] else "")
        if run["state"] == "failed":
            terminal.say(terminal.line((2, mark), (7, run["branch"]), (34, terminal.dim(f"failed: {run['note']}"))))
            continue
        told = []
        for k, at, width in shown:
            cell = run["cells"][columns[k]["group"]].get(columns[k]["name"], {})
            marked = cell.get("differs") and columns[k]["group"] != "metrics"
            text = terminal.tone("changed", row[k]) if marked else row[k]
            told.append((at + width - len(row[k]), terminal.bold(text) if cell.get("best") else text))
        terminal.say(terminal.line((2, mark), (7, terminal.shorten_path(run["branch"], branch_wide)), *told))
    left = len(columns) - len(shown)
    if left and runs:
        ways = "--csv or --json" if len(columns) < len(found["columns"]) else "--differing, --csv or --json"
        terminal.say(terminal.dim(f"  {terminal.count(left, 'more column')}: with {ways}"))


def _head(column: dict[str, Any]) -> str:
    unit = f", {column['unit']}" if column["unit"] else ""
    return f"{column['name']}{unit}"


def _cell(run: dict[str, Any], column: dict[str, Any]) -> str:
    cell = run["cells"][column["group"]].get(column["name"])
    if cell is None or cell["value"] is None:
        return "–"
    value = cell["value"]
    text = f"v{value}" if column["group"] == "reads" and isinstance(value, int) else terminal.number(value)
    differs = cell["differs"] and column["group"] != "metrics"
    return ("◆ " if cell.get("best") else "≠ " if differs else "") + text


def _csv(columns: list[dict[str, Any]], runs: list[dict[str, Any]]) -> str:
    fixed = ("number", "branch", "commit", "state", "began", "took_seconds")
    rows = []
    for run in runs:
        values = [run["cells"][c["group"]].get(c["name"], {}).get("value") for c in columns]
        rows.append([*(run[name] for name in fixed), *values])
    return csv_text(["run", *fixed[1:], *map(_head, columns)], rows)


@experiment.command("adopt")
@click.argument("key")
@click.option("--branch", default="", help="Branch to propose; default: the experiment's own.")
@click.option("--title", default="", help="Title of the proposal; default: the question.")
@click.option(
    "--ask", "reviewers", multiple=True, metavar="PERSON", help="Reviewer to ask for a verdict; may be repeated."
)
@shelf_options
def experiment_adopt(
    key: str,
    branch: str,
    title: str,
    reviewers: tuple[str, ...],
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Propose merging the branch of the experiment KEY, and close the experiment."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.adopt_experiment(key, branch=branch, title=title, reviewers=reviewers)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(f"Experiment {key} is proposed to {found['target']}") + f", as {found['proposal']}.")
    terminal.next_step(f"everyshelf proposal show {found['proposal']}")


@experiment.command("abandon")
@click.argument("key")
@click.option("--reason", required=True, metavar="TEXT", help="Reason, for anyone who asks the same question later.")
@shelf_options
def experiment_abandon(key: str, reason: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Abandon the experiment KEY. Its branch and runs are kept."""
    found = open_shelf(shelf_key, address)[0].abandon_experiment(key, reason)
    if as_json:
        terminal.print_json(found)
    else:
        terminal.say(terminal.bold(f"Experiment {key} is abandoned") + f": {reason}")

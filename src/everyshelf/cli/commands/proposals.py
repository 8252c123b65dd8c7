"""``proposal`` and ``check``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.options import Commands, json_option, shelf_options
from everyshelf.cli.reasons import reason_for
from everyshelf.cli.session import open_client, open_shelf

VERDICTS = ("agree", "against")
_WHAT = {
    "verdict": "give a verdict",
    "answer": "answer",
    "fix": "fix",
    "merge": "merge",
    "settle": "settle",
}


@click.group("proposal", cls=Commands)
def proposal() -> None:
    """Propose merging a branch into another, and review proposals."""


@proposal.command("list")
@click.option(
    "--state",
    type=click.Choice(["open", "merged", "closed", "all"]),
    default="open",
    show_default=True,
    help="Which proposals.",
)
@shelf_options
def proposal_list(state: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List proposals of the shelf, newest first."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.proposals(state)
    if as_json:
        terminal.print_json(found)
        return
    what = "proposal" if state == "all" else f"{state} proposal"
    terminal.say(terminal.bold(terminal.count(len(found), what)) + ".")
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(6),
            terminal.Column(terminal.KIND, text=True),
            terminal.Column(51, path=True),
            terminal.Column(80),
        )
    )
    for one in found:
        remarks = f"{one['remarks_open']} of {terminal.count(one['remarks'], 'remark')} open" if one["remarks"] else ""
        ends, more = f"{one['source']} → {one['target']}", remarks or one["created_by"]
        listing.row(str(one["number"]), one["state"], (one["title"], terminal.bold), ends, more)
    listing.show()
    if found:
        terminal.next_step(f"everyshelf proposal show {found[0]['number']}")
    elif state == "open":
        ready = next((b for b in shelf.branches() if b.ahead and not b.main), None)
        if ready is not None:
            terminal.next_step(f'everyshelf proposal open {ready.name} --title "TITLE"')


@proposal.command("open")
@click.argument("source", shell_complete=completing.branches)
@click.option("--title", required=True, help="What changes, in one line.")
@click.option(
    "--into",
    "target",
    default="",
    help="Branch to merge into; default: the main branch.",
    shell_complete=completing.branches,
)
@click.option("--description", default="", help="Longer description.")
@click.option(
    "--ask", "reviewers", multiple=True, metavar="PERSON", help="Reviewer to ask for a verdict; may be repeated."
)
@click.option("--task", "tasks", multiple=True, metavar="ID", help="Task it is for; may be repeated.")
@click.option("--delete", "delete_source", is_flag=True, help="Delete SOURCE when it is merged.")
@shelf_options
def proposal_open(
    source: str,
    title: str,
    target: str,
    description: str,
    reviewers: tuple[str, ...],
    tasks: tuple[str, ...],
    delete_source: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Propose merging the branch SOURCE."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.open_proposal(
        title,
        source,
        target,
        description=description,
        tasks=list(tasks),
        reviewers=list(reviewers),
        delete_source=delete_source,
    )
    if as_json:
        terminal.print_json(made)
    else:
        _print(made, "", following=False)


@proposal.command("show")
@click.argument("number", type=int)
@shelf_options
def proposal_show(number: int, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Show proposal NUMBER: what it changes, conflicts, verdicts, remarks, checks."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.proposal(number)
    if as_json:
        terminal.print_json(found)
        return
    sentence = ""
    if found["base"] and found["head"]:
        sentence = shelf.compare(f"commit:{found['base']}", f"commit:{found['head']}").sentence
    _print(found, sentence)


def _shown(found: dict[str, Any], as_json: bool) -> None:
    if as_json:
        terminal.print_json(found)
    else:
        _print(found, "")


def _print(found: dict[str, Any], sentence: str, *, following: bool = True) -> None:
    state = "" if found["state"] == "open" else f", {found['state']} by {found['closed_by']}"
    terminal.say(terminal.bold(f"Proposal {found['number']}: {found['title']}"))
    terminal.say(f"  {found['source']} into {found['target']}, by {found['created_by']}{state}")
    if found["description"]:
        terminal.paragraph(found["description"], indent=2)
    if sentence:
        terminal.say(f"  {sentence}")
    for conflict in found["conflicts"]:
        terminal.labelled("⊣⊢ conflict", conflict["why"], at=15)
    _print_verdicts(found)
    for one in found["remarks"]:
        _print_remark(one)
    for one in found["not_met"]:
        terminal.labelled(terminal.stops("not met"), one["message"], at=15)
    if found["state"] == "open" and following:
        _print_next(found)


def _print_verdicts(found: dict[str, Any]) -> None:
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(15), terminal.Column(25), terminal.Column(44, wrap=True))
    )
    for verdict in found["verdicts"]:
        word = terminal.dim(f"{verdict['verdict']}, lapsed") if verdict["lapsed"] else verdict["verdict"]
        said = verdict["lapsed"] or verdict["text"]
        listing.row("verdict", (verdict["person"], terminal.bold), word, said)
    asked = [r for r in found["reviewers"] if r not in {v["person"] for v in found["verdicts"]}]
    for person in asked:
        listing.row("verdict", (person, terminal.bold), ("asked, none yet", terminal.dim))
    for check in found["checks"]:
        word = "passed" if check["passed"] else terminal.stops("failed")
        listing.row("check", (check["name"], terminal.bold), word, check["comment"])
    listing.show()


def _print_next(found: dict[str, Any]) -> None:
    open_points = {one["what"] for one in found["not_met"]}
    condition = next((r for r in found["remarks"] if r["condition"] and not r["settled"]), None)
    if found["merge"]:
        terminal.next_step(f"everyshelf settle --merge {found['merge']}")
    elif found["may_judge"] and "agreement" in open_points:
        terminal.next_step(f"everyshelf proposal verdict {found['number']} agree")
    elif found["may_judge"] and found["may_change"] and condition is not None:
        terminal.next_step(f"everyshelf proposal settle-remark {found['number']} {condition['id']}")
    elif found["may_merge"] and open_points <= {"conflicts"}:
        terminal.next_step(f"everyshelf proposal merge {found['number']}")
    else:
        who = f"{found['who_merges']} of the shelf can merge it"
        terminal.say(terminal.dim(f"  Nothing more for you to do; {who}."))


def _print_remark(one: dict[str, Any]) -> None:
    where = ""
    if one["path"]:
        now = one["now"] or {}
        part = now.get("part") or one["part"]
        gone = ", which is gone" if now and (now["path"] is None or (one["part"] and now["part"] is None)) else ""
        moved = ", moved since" if not gone and part != one["part"] else ""
        where = f" on {one['label'] or part or now.get('path') or one['path']}{gone}{moved}"
    settled = terminal.dim(" (met)" if one["condition"] else " (done)") if one["settled"] else ""
    terminal.say(
        terminal.line(
            (2, "condition" if one["condition"] else "remark"),
            (15, terminal.bold(one["person"]) + where + settled),
            (70, f"id {one['id']}"),
        )
    )
    terminal.paragraph(one["text"], indent=15)
    for answer in one["answers"]:
        terminal.paragraph(f"{terminal.bold(answer['person'])}: {answer['text']}", indent=17)


@proposal.command("change")
@click.argument("number", type=int)
@click.option("--title", help="New title.")
@click.option("--description", help="Longer description.")
@click.option(
    "--ask",
    "reviewers",
    multiple=True,
    metavar="PERSON",
    help="Reviewer, instead of those asked before; may be repeated.",
)
@click.option("--delete/--keep", "delete_source", default=None, help="Whether SOURCE is deleted when it is merged.")
@shelf_options
def proposal_change(
    number: int,
    title: str | None,
    description: str | None,
    reviewers: tuple[str, ...],
    delete_source: bool | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Change the title, description or reviewers of proposal NUMBER."""
    wanted = {
        "title": title,
        "description": description,
        "delete_source": delete_source,
        "reviewers": list(reviewers) or None,
    }
    changes = {name: value for name, value in wanted.items() if value is not None}
    if not changes:
        raise click.UsageError("nothing to change: give --title, --description, --ask, --delete or --keep.")
    _shown(open_shelf(shelf_key, address)[0].change_proposal(number, **changes), as_json)


@proposal.command("remark")
@click.argument("number", type=int)
@click.argument("text")
@click.option("--on", "path", default="", metavar="ARTIFACT", help="Artifact it is about.")
@click.option("--part", default="", help="Part of the artifact, by its path in the outline.")
@click.option("--answer", "answer_to", default="", metavar="ID", help="Answer this remark.")
@click.option("--condition", is_flag=True, help="Do not merge before this is met.")
@shelf_options
def proposal_remark(
    number: int,
    text: str,
    path: str,
    part: str,
    answer_to: str,
    condition: bool,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Add a remark to proposal NUMBER. A remark stays attached to its part when the part moves."""
    shelf, desk = open_shelf(shelf_key, address)
    where = desk.as_path(path) if desk and path else path
    _shown(shelf.remark(number, text, path=where, part=part, answer_to=answer_to, condition=condition), as_json)


@proposal.command("settle-remark")
@click.argument("number", type=int)
@click.argument("remark")
@click.option("--reopen", is_flag=True, help="Undo that.")
@shelf_options
def proposal_settle_remark(
    number: int, remark: str, reopen: bool, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Mark REMARK (its id) of proposal NUMBER as done, or a condition as met."""
    _shown(open_shelf(shelf_key, address)[0].settle_remark(number, remark, not reopen), as_json)


@proposal.command("verdict")
@click.argument("number", type=int)
@click.argument("verdict", type=click.Choice(VERDICTS))
@click.option("--comment", "text", default="", metavar="TEXT", help="Comment; required with against.")
@shelf_options
def proposal_verdict(
    number: int, verdict: str, text: str, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Give a verdict on proposal NUMBER. It lapses when the branch gets changes that are more than cosmetic."""
    shelf, _ = open_shelf(shelf_key, address)
    _shown(shelf.give_verdict(number, verdict, text), as_json)


@proposal.command("merge")
@click.argument("number", type=int)
@click.option("--anyway", is_flag=True, help="Merge although a requirement is not met; needs --reason.")
@click.option("--reason", default="", metavar="TEXT", help="With --anyway: why.")
@click.option("--summary", default="", help="Commit summary; default: the title.")
@click.option("--delete/--keep", "delete_source", default=None, help="Whether SOURCE is deleted; default: as proposed.")
@shelf_options
def proposal_merge(
    number: int,
    anyway: bool,
    reason: str,
    summary: str,
    delete_source: bool | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Merge proposal NUMBER. Conflicts are kept on the server to be settled (exit code 3)."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.merge_proposal(
        number, reason=reason_for(anyway, reason), summary=summary, delete_source=delete_source
    )
    if as_json:
        terminal.print_json(found)
        return
    commit = (found["merged"] or "")[:8]
    terminal.say(terminal.bold(f"Proposal {number} is merged") + f" into {found['target']}, as {commit}.")
    terminal.next_step("everyshelf history --limit 5")


@proposal.command("close")
@click.argument("number", type=int)
@click.option("--reason", default="", metavar="TEXT", help="Why it is not merged.")
@click.option("--reopen", is_flag=True, help="Reopen it.")
@shelf_options
def proposal_close(
    number: int, reason: str, reopen: bool, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Close proposal NUMBER without merging. Both branches are kept."""
    changes = {"state": "open"} if reopen else {"state": "closed", "reason": reason}
    _shown(open_shelf(shelf_key, address)[0].change_proposal(number, **changes), as_json)


@proposal.command("tasks")
@click.option("--address", help="Address of the service.")
@json_option
def proposal_waiting(address: str | None, as_json: bool) -> None:
    """List what needs your action, on all shelves."""
    found = open_client(address).waiting()
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(f"{terminal.count(len(found), 'task')} for you" if found else "No tasks for you") + ".")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(18), terminal.Column(33, text=True), terminal.Column(64))
    )
    for one in found:
        number = f"proposal {one['proposal']}" if one["proposal"] else f"merge {one['merge']}"
        listing.row(_WHAT[one["what"]], one["shelf"], (one["title"], terminal.bold), number)
        listing.under("\n".join(f"{' ' * 18}{line}" for line in terminal.wrapped_at(one["message"], 18)))
    listing.show()
    if found:
        first = found[0]
        command = f"proposal show {first['proposal']}" if first["proposal"] else f"settle --merge {first['merge']}"
        terminal.next_step(f"everyshelf {command} --shelf {first['shelf']}")


@click.group("check", cls=Commands)
def check() -> None:
    """List test results recorded for a commit, or record one."""


@check.command("list")
@click.option(
    "--at", "ref", default="", metavar="REF", help="State; default: the main branch.", shell_complete=completing.refs
)
@shelf_options
def check_list(ref: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the newest check of each name."""
    found = open_shelf(shelf_key, address)[0].checks(ref)
    if as_json:
        terminal.print_json(found)
        return
    failed = sum(not c["passed"] for c in found)
    sentence = terminal.bold(terminal.count(len(found), "check")) + f", {failed or 'none'} failed."
    terminal.say(sentence if found else terminal.bold("No check is recorded there") + ".")
    listing = terminal.Listing(
        (terminal.Column(2), terminal.Column(terminal.KIND), terminal.Column(40, text=True), terminal.Column(78))
    )
    for one in found:
        word = "passed" if one["passed"] else terminal.stops("failed")
        who = f"{one['made_by']}, {terminal.when(one['made'])}"
        listing.row(word, (one["name"], terminal.bold), one["comment"], who)
    listing.show()


@check.command("record")
@click.argument("name")
@click.option("--passed/--failed", "passed", default=None, help="How it ended.")
@click.option("--junit", type=click.Path(exists=True, dir_okay=False), help="Read the result from a JUnit file.")
@click.option(
    "--at",
    "ref",
    default="",
    metavar="REF",
    help="State that was checked; default: the main branch.",
    shell_complete=completing.refs,
)
@click.option("--comment", default="", metavar="TEXT", help='Short result, e.g. "31 of 31".')
@click.option("--link", default="", help="Link to the full report.")
@shelf_options
def check_record(
    name: str,
    passed: bool | None,
    junit: str | None,
    ref: str,
    comment: str,
    link: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Record that the check NAME passed or failed for the commit a ref stands for."""
    if (passed is None) == (junit is None):
        raise click.UsageError("say how it ended: --passed, --failed, or --junit FILE")
    text = Path(junit).read_bytes().decode("utf-8", "replace") if junit else ""
    made = open_shelf(shelf_key, address)[0].record_check(name, passed, ref, junit=text, comment=comment, link=link)
    if as_json:
        terminal.print_json(made)
        return
    word = "passed" if made["passed"] else "failed"
    told = f": {made['comment']}" if made["comment"] else ""
    terminal.say(terminal.bold(f"{name} {word}") + f"{told}, recorded for {made['commit'][:8]}.")

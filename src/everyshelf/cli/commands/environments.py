"""``env``: environments, their bindings and reviews."""

from __future__ import annotations

import re
import shlex
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from everyshelf.cli import completing, terminal
from everyshelf.cli.folders import print_by_folder
from everyshelf.cli.options import Commands, shelf_options
from everyshelf.cli.reports import keep_only, report_form, report_option
from everyshelf.cli.session import open_shelf

if TYPE_CHECKING:
    from everyshelf.client.models import Deployment

F = TypeVar("F", bound=Callable[..., Any])
_QUIET = re.compile(r"(?:(?P<days>[A-Za-z,]+) )?(?P<start>\d?\d:\d\d)-(?P<end>\d?\d:\d\d)(?: (?P<zone>\S+))?\Z")


_FILE = click.Path(exists=True, dir_okay=False, path_type=Path)


@click.group("env", cls=Commands)
def env() -> None:
    """List, make and configure environments."""


@env.command("list")
@shelf_options
def env_list(shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List environments: the running tag, since when, newer tags not yet promoted, and drift."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.environments()
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(f"{terminal.count(len(found), 'environment')}") + ("." if found else ": none yet."))
    routes: dict[str, list[Any]] = {}
    for e in found:
        routes.setdefault(e.route, []).append(e)
    columns = tuple(terminal.Column(start) for start in (2, 18, 36, 64, 86))
    for route, places in routes.items():
        terminal.say(
            terminal.line(
                (2, terminal.dim("route")), (10, terminal.dim(f"{route}: {' → '.join(e.name for e in places)}"))
            )
        )
        listing = terminal.Listing(columns)
        for e in places:
            runs = f"tag:{e.current.tag}" if e.current else "nothing yet"
            since = f"since {terminal.when(e.current.ended)}, {e.current.who}" if e.current and e.current.ended else ""
            waits = f"next: tag:{e.waiting}" if e.waiting else ""
            listing.row((e.name, terminal.bold), runs, (since, terminal.dim), waits, _drifted(e))
        listing.show()
    waiting = next((e for e in found if e.waiting), None)
    if waiting is not None:
        terminal.next_step(f"everyshelf rehearse tag:{waiting.waiting} {waiting.name}")


def _drifted(e: Any) -> str:
    if e.drift_problem:
        return terminal.stops("out of reach")
    return terminal.tone("changed", f"≠ {len(e.drift)} changed there") if e.drift else ""


def _settings(command: F) -> F:
    """The options of making and changing."""
    options = [
        click.option("--token", help="Token or password of the destination; - reads it from standard input."),
        click.option("--key-file", type=_FILE, help="For Git over SSH: private key; it is kept sealed."),
        click.option("--known-hosts", type=_FILE, help="File with the server's own keys, as ssh-keyscan writes it."),
        click.option(
            "--records",
            multiple=True,
            metavar="TABLE",
            help="A table whose records are versioned too (others: schema only).",
        ),
        click.option("--fed-from", metavar="BRANCH", help="Only tags on this branch may be promoted there."),
        click.option(
            "--earlier-first/--no-earlier-first",
            default=None,
            help="Only tags already deployed to the previous environment on the route.",
        ),
        click.option("--guarded/--not-guarded", default=None, help="Only tags on a guarded branch."),
        click.option("--reviews", type=click.IntRange(0, 20), help="How many people other than the author must agree."),
        click.option(
            "--check", "checks", multiple=True, metavar="NAME", help="A check that must have passed; may be repeated."
        ),
        click.option(
            "--quiet", multiple=True, metavar="HOURS", help='No promotion then: "Fri,Sat 18:00-06:00 Europe/Oslo".'
        ),
        click.option(
            "--no-drift/--drift-allowed",
            "drift",
            default=None,
            help="Refuse a promotion that would overwrite changes made there.",
        ),
        click.option(
            "--leave-out",
            "patterns",
            multiple=True,
            metavar="PATTERN",
            help="Artifacts that are not deployed; may be repeated.",
        ),
        click.option(
            "--leave-out-kind",
            "kinds",
            multiple=True,
            metavar="KIND",
            help="Kinds that are not deployed; may be repeated.",
        ),
        click.option(
            "--watch", type=click.IntRange(0), metavar="MINUTES", help="Check for drift every MINUTES; 0: never."
        ),
        click.option("--note", help="What the environment is for."),
    ]
    for option in reversed(options):
        command = option(command)
    return command


def _said(given: dict[str, Any]) -> dict[str, Any]:
    """Options as the service takes them; those that were not given are left out."""
    gates = {
        "guarded": given.pop("guarded"),
        "reviews": given.pop("reviews"),
        "checks": list(given.pop("checks")) or None,
        "quiet": [_hours(text) for text in given.pop("quiet")] or None,
        "drift": given.pop("drift"),
    }
    left_out = {"patterns": list(given.pop("patterns")), "kinds": list(given.pop("kinds"))}
    token, records = given.pop("token"), list(given.pop("records"))
    key, hosts = given.pop("key_file"), given.pop("known_hosts")
    if key is not None:
        token = f"{key.read_text().rstrip()}\n{hosts.read_text() if hosts is not None else ''}"
    elif hosts is not None:
        raise click.UsageError("--known-hosts goes with --key-file")
    found = {
        "gates": {name: value for name, value in gates.items() if value is not None} or None,
        "left_out": left_out if any(left_out.values()) else None,
        "watch_minutes": given.pop("watch"),
        "records": records or None,
        "token": _given(token) if token is not None else None,
        **given,
    }
    return {name: value for name, value in found.items() if value is not None}


def _given(value: str) -> str:
    """A value, or the next line of standard input for "-": what is secret does not belong into a command line."""
    return sys.stdin.readline().rstrip("\n") if value == "-" else value


def _hours(text: str) -> dict[str, Any]:
    found = _QUIET.match(text)
    if found is None:
        raise click.UsageError(f'--quiet {text!r}: write "18:00-06:00", "Fri,Sat 18:00-06:00 Europe/Oslo"')
    days = found["days"].split(",") if found["days"] else []
    return {"days": days, "from": found["start"], "to": found["end"], "zone": found["zone"] or "UTC"}


@env.command("make")
@click.argument("name")
@click.option("--folder", help="Destination: this folder; default: one below the service's data.")
@click.option("--platform", metavar="ADDRESS", help="Destination: this space of a platform, https://HOST/SPACE.")
@click.option(
    "--database", metavar="ADDRESS", help="Destination: this database, a file or postgresql+psycopg://HOST/NAME."
)
@click.option("--git", metavar="ADDRESS", help="Destination: this branch, https://HOST/REPOSITORY.git#BRANCH[:FOLDER].")
@click.option("--subfolder", metavar="FOLDER", help="Deploy only this folder of the shelf.")
@click.option("--route", help="Route it belongs to; default: main.")
@click.option("--position", type=click.IntRange(1, 99), help="Position on the route; default: last.")
@_settings
@shelf_options
def env_make(
    name: str,
    folder: str | None,
    platform: str | None,
    database: str | None,
    git: str | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
    **given: Any,
) -> None:
    """Make the environment NAME. Its destination is a folder, a database, a platform or a Git branch."""
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.make_environment(
        name, **_destination(folder=folder, platform=platform, database=database, git=git), **_said(given)
    )
    if as_json:
        terminal.print_json(made)
        return
    where = f" (position {made.position} on route {made.route}) in {made.address}."
    terminal.say(terminal.bold(f"Created environment {name}") + where)
    if made.destination == "database":
        terminal.next_step(f"everyshelf drift {name}")
    elif tags := shelf.tags(limit=1):
        terminal.next_step(f"everyshelf rehearse tag:{tags[0].name} {name}")


def _destination(**named: str | None) -> dict[str, str]:
    found = [(kind, address) for kind, address in named.items() if address]
    if len(found) > 1:
        raise click.UsageError("give one destination: --folder, --database, --platform or --git")
    kind, where = found[0] if found else ("folder", "")
    return {"destination": kind, "address": where}


@env.command("change")
@click.argument("name", shell_complete=completing.environments)
@_settings
@shelf_options
def env_change(name: str, shelf_key: str | None, address: str | None, as_json: bool, **given: Any) -> None:
    """Change the gates and other settings of the environment NAME."""
    wanted = _said(given)
    if not wanted:
        raise click.UsageError("nothing to change; see everyshelf env change --help")
    shelf, _ = open_shelf(shelf_key, address)
    made = shelf.change_environment(name, **wanted)
    if as_json:
        terminal.print_json(made)
    else:
        terminal.say(terminal.bold(f"Environment {name} is changed") + f": {', '.join(sorted(wanted))}.")


@env.command("try")
@click.argument("name", shell_complete=completing.environments)
@click.argument("tag", shell_complete=completing.tags)
@click.option("--days", type=int, default=7, show_default=True, help="Days until it is removed.")
@click.option("--folder", help="Destination: this folder; default: one below the service's data.")
@click.option("--platform", metavar="ADDRESS", help="Destination: this space of a platform.")
@click.option(
    "--database", metavar="ADDRESS", help="Destination: this database, a file or postgresql+psycopg://HOST/NAME."
)
@click.option("--git", metavar="ADDRESS", help="Destination: this branch, https://HOST/REPOSITORY.git#BRANCH[:FOLDER].")
@click.option("--subfolder", metavar="FOLDER", default="", help="Deploy only this folder of the shelf.")
@click.option(
    "--records", multiple=True, metavar="TABLE", help="A table whose records are versioned too (others: schema only)."
)
@click.option("--token", default="", help="Token or password of the destination; - reads it from standard input.")
@click.option("--note", default="", help="What it is for.")
@shelf_options
def env_try(
    name: str,
    tag: str,
    days: int,
    folder: str | None,
    platform: str | None,
    database: str | None,
    git: str | None,
    subfolder: str,
    records: tuple[str, ...],
    token: str,
    note: str,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Make the trial environment NAME and deploy TAG to it. It is removed automatically after --days."""
    shelf, _ = open_shelf(shelf_key, address)
    said: dict[str, Any] = {"subfolder": subfolder, "records": list(records), "token": _given(token), "note": note}
    made = shelf.make_trial(
        name, tag, days=days, **said, **_destination(folder=folder, platform=platform, database=database, git=git)
    )
    with terminal.progress_bar("Promoting") as progress:
        shelf.wait(shelf.promote(tag, name), lambda job: progress(job.done, job.total, job.note))
    if as_json:
        terminal.print_json(shelf.environment(name))
        return
    until = f" until {made.expires.astimezone():%d %b %H:%M}" if made.expires else ""
    terminal.say(terminal.bold(f"tag:{made.trial_of} is now running in {name}") + f"{until}, in {made.address}.")
    drafts = [draft.branch for draft in shelf.drafts()]
    if drafts:
        other = "" if drafts[0] == shelf.info().main_branch else f" --branch {drafts[0]}"
        terminal.next_step(f"everyshelf env try-draft {name}{other}")


@env.command("try-draft")
@click.argument("name", shell_complete=completing.environments)
@click.option("--branch", default="main", show_default=True, help="Branch of the draft.")
@click.option("--overwrite-drift", is_flag=True, help="Allow overwriting changes made directly in the environment.")
@shelf_options
def env_try_draft(
    name: str, branch: str, overwrite_drift: bool, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Deploy your draft to the trial environment NAME."""
    shelf, _ = open_shelf(shelf_key, address)
    with terminal.progress_bar("Promoting") as progress:
        job = shelf.try_draft(branch, name, overwrite_drift=overwrite_drift)
        done = shelf.wait(job, lambda found: progress(found.done, found.total, found.note))
    if as_json:
        terminal.print_json(done.result)
        return
    terminal.say(terminal.bold(f"Your draft of {branch} is now running in {name}") + ".")
    terminal.next_step(f"everyshelf drift {name}")


def _last_done(deployments: list[Deployment], name: str) -> int:
    done = [one.number for one in deployments if one.state == "recorded"]
    if not done:
        raise click.ClickException(f"the environment {name} has no deployment yet")
    return max(done)


@env.command("show")
@click.argument("name", shell_complete=completing.environments)
@click.option(
    "--deployment", type=click.IntRange(1), metavar="N", help="With --report: of this one; default: the last."
)
@report_option
@shelf_options
def env_show(
    name: str,
    deployment: int | None,
    report: Path | None,
    shelf_key: str | None,
    address: str | None,
    as_json: bool,
) -> None:
    """Show the environment NAME: its gates and its deployments, newest first.

    With --report, what a deployment changed, under which conditions, and who made that and why.
    """
    shelf, _ = open_shelf(shelf_key, address)
    form = report_form(report)
    if report is not None and form is not None:
        number = deployment or _last_done(shelf.deployments(name), name)
        keep_only(report, shelf.deployment_report(name, number, form), as_json=as_json)
        return
    if deployment is not None:
        raise click.UsageError("--deployment N goes with --report FILE")
    found, place = shelf.deployments(name), shelf.environment(name)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(
        terminal.bold(f"{terminal.count(len(found), 'deployment')} to {name}")
        + f", {place.destination} {place.address}."
    )
    if place.subfolder:
        records = f", with the records of {', '.join(place.records)}" if place.records else ""
        terminal.say(terminal.line((2, "subfolder"), (terminal.KIND, f"{place.subfolder}{records}")))
    for number, said in enumerate(_gates(place)):
        terminal.say(terminal.line((2, "gates" if number == 0 else ""), (terminal.KIND, said)))
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(7, path=True),
            terminal.Column(27),
            terminal.Column(37),
            terminal.Column(50),
            terminal.Column(60),
            terminal.Column(72, text=True),
        )
    )
    for d in found:
        back = f"back to {d.rolled_back_to}" if d.rolled_back_to else "forced" if d.forced else ""
        tag = f"tag:{d.tag}", terminal.bold
        listing.row(
            str(d.number),
            tag,
            "done" if d.state == "recorded" else d.state,
            terminal.when(d.begun),
            d.who,
            back,
            (d.reason, terminal.dim),
        )
    listing.show()


def _gates(place: Any) -> list[str]:
    gates = place.gates
    return [
        *([f"from {place.fed_from}"] if place.fed_from else []),
        *(["from a guarded branch"] if gates["guarded"] else []),
        *(["the environment before it first"] if place.earlier_first else []),
        *([f"{terminal.count(gates['reviews'], 'review')} of others than the author"] if gates["reviews"] else []),
        *(f"check {name}" for name in gates["checks"]),
        *(f"quiet from {h['from']} to {h['to']} {h['zone']} {', '.join(h['days'])}".rstrip() for h in gates["quiet"]),
        *(["no drift"] if gates["drift"] else []),
    ]


@env.command("compare")
@click.argument("one", shell_complete=completing.environments)
@click.argument("other", shell_complete=completing.environments)
@shelf_options
def env_compare(one: str, other: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Compare what is really in the environments ONE and OTHER."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.compare_environments(one, other)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(found["sentence"]))
    where = {"added": f"only in {other}", "removed": f"only in {one}"}
    print_by_folder([{**row, "headline": row["headline"] or where.get(row["state"], "")} for row in found["artifacts"]])


@env.command("places")
@click.option("--databases", is_flag=True, help="Files of databases instead of folders.")
@click.option("--name", default="", help="Name of the environment: an address that is made for it comes first.")
@shelf_options
def env_places(databases: bool, name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List folders, or database files, where a new environment can live."""
    shelf, _ = open_shelf(shelf_key, address)
    found = shelf.free_places("database" if databases else "folder", name)
    if as_json:
        terminal.print_json(found)
        return
    terminal.say(terminal.bold(f"{terminal.count(len(found), 'free place')}."))
    listing = terminal.Listing((terminal.Column(2), terminal.Column(20)))
    for place in found:
        listing.row((_FREE[place.what], terminal.dim), place.address)
    listing.show()
    if found:
        where = shlex.quote(found[0].address)
        option = f"--subfolder FOLDER --database {where}" if databases else f"--folder {where}"
        terminal.next_step(f"everyshelf env make {name or 'NAME'} {option}")


_FREE = {"new": "made with it", "empty": "empty folder", "database": "database file"}


@env.command("remove")
@click.argument("name", shell_complete=completing.environments)
@shelf_options
def env_remove(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Remove the environment NAME if it was never deployed to, or end a trial environment."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.remove_environment(name)
    if as_json:
        terminal.print_json({"removed": name})
    else:
        terminal.say(f"Environment {name} is forgotten.")


# --- bindings and reviews -------------------------------------------------------


@env.command("bindings")
@click.argument("name", shell_complete=completing.environments)
@shelf_options
def env_bindings(name: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """List the bindings of the environment NAME and which have a value. Secret values are not shown."""
    shelf, _ = open_shelf(shelf_key, address)
    print_bindings(name, shelf.bindings(name), as_json)


def print_bindings(name: str, found: list[Any], as_json: bool) -> None:
    """Names, values, and what has none."""
    if as_json:
        terminal.print_json(found)
        return
    unset = [b for b in found if not b.set]
    sentence = f"{terminal.count(len(found), 'binding')} of {name}"
    terminal.say(terminal.bold(sentence) + (f", {len(unset)} without a value." if unset else "."))
    listing = terminal.Listing(
        (
            terminal.Column(2),
            terminal.Column(30, text=True),
            terminal.Column(62),
            terminal.Column(82, wrap=True),
        )
    )
    for b in found:
        who = f"{b.set_by}, {terminal.when(b.set_at)}" if b.set_at else ""
        value = ("secret", terminal.dim) if b.secret else (b.value or "", str)
        state = value if b.set else ("no value", lambda _: terminal.stops("no value"))
        listing.row((b.name, terminal.bold), state, (who, terminal.dim), ", ".join(b.artifacts))
    listing.show()
    if unset:
        terminal.next_step(f"everyshelf env bind {name} {unset[0].name}=VALUE")


@env.command("bind")
@click.argument("name", shell_complete=completing.environments)
@click.argument("values", nargs=-1, required=True, metavar="BINDING=VALUE...")
@click.option(
    "--secret/--plain",
    default=None,
    help="Encrypt the value and never show it; default: as shelf.toml says, else secret.",
)
@shelf_options
def env_bind(
    name: str, values: tuple[str, ...], secret: bool | None, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Set bindings of the environment NAME. BINDING=- reads the value from standard input."""
    pairs = [text.partition("=") for text in values]
    wrong = next((text for text, (_, sign, _) in zip(values, pairs, strict=True) if not sign), None)
    if wrong is not None:
        raise click.UsageError(f"{wrong!r}: write BINDING=VALUE")
    shelf, _ = open_shelf(shelf_key, address)
    found: list[Any] = []
    for binding, _, value in pairs:
        found = shelf.bind(name, binding, _given(value), secret=secret)
    print_bindings(name, found, as_json)


@env.command("unbind")
@click.argument("name", shell_complete=completing.environments)
@click.argument("binding")
@shelf_options
def env_unbind(name: str, binding: str, shelf_key: str | None, address: str | None, as_json: bool) -> None:
    """Remove the value of BINDING in the environment NAME."""
    shelf, _ = open_shelf(shelf_key, address)
    shelf.unbind(name, binding)
    print_bindings(name, shelf.bindings(name), as_json)


@env.command("review")
@click.argument("tag", shell_complete=completing.tags)
@click.argument("name", shell_complete=completing.environments)
@click.option("--agree/--against", "agrees", required=True, default=None, help="Your verdict.")
@click.option("--comment", default="", metavar="TEXT", help="Comment.")
@shelf_options
def env_review(
    tag: str, name: str, agrees: bool | None, comment: str, shelf_key: str | None, address: str | None, as_json: bool
) -> None:
    """Agree to or speak against promoting TAG to the environment NAME."""
    if agrees is None:
        raise click.UsageError("give --agree or --against")
    shelf, _ = open_shelf(shelf_key, address)
    given = shelf.review(tag, name, agrees=agrees, comment=comment)
    if as_json:
        terminal.print_json(given)
        return
    word = "agrees" if given["agrees"] else "is against it"
    terminal.say(terminal.bold(f"{given['person']} {word}") + f": {tag} into {name}.")
    terminal.next_step(f"everyshelf rehearse {tag} {name}")

"""``everyshelf demo``: build it, show one comparison and one promotion, then serve."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path

import click

from everyshelf.cli import terminal
from everyshelf.client import Client, UnreachableError
from everyshelf.demo.archive import FOLDER as ARCHIVE
from everyshelf.demo.build import PASSWORD, PEOPLE, SHELF, build
from everyshelf.demo.route import Platform

_DONE = "built"


def run_demo(data: Path, port: int, *, serve: bool, fresh: bool) -> None:
    """Everything; the second time it only shows and serves what is there."""
    if fresh or not (data / _DONE).exists():
        shutil.rmtree(data, ignore_errors=True)
    data.mkdir(parents=True, exist_ok=True)
    address = f"http://127.0.0.1:{port}"
    environment = {
        **os.environ,
        "EVERYSHELF_DATA": str(data / "service"),
        "EVERYSHELF_OWNER": "maren",
        "EVERYSHELF_OWNER_PASSWORD": PASSWORD,
        "EVERYSHELF_CONFIG": str(data / "config"),
    }
    # Ended from outside, it still stops the service it started.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    standin, platform = _start_platform(data)
    reached = [platform.address.partition("://")[2].partition("/")[0], os.environ.get("EVERYSHELF_REACH", "")]
    archive = [str(data / ARCHIVE), os.environ.get("EVERYSHELF_IN_PLACE", "")]
    environment["EVERYSHELF_IN_PLACE"] = os.pathsep.join(filter(None, archive))
    environment["EVERYSHELF_REACH"] = ",".join(filter(None, reached))
    process = subprocess.Popen(
        [sys.executable, "-m", "everyshelf.cli.main", "serve", "--port", str(port)],
        env=environment,
        stdout=subprocess.DEVNULL,
    )
    try:
        _wait_until_ready(address, process, data)
        if not (data / _DONE).exists():
            _build(address, data, platform)
        _show(address, data, environment)
        if serve:
            _say_where(address, data)
            process.wait()
    except KeyboardInterrupt:
        terminal.say("Stopped. Everything is kept in " + str(data))
    finally:
        standin.terminate()
        process.send_signal(signal.SIGTERM)
        process.wait()


def _start_platform(data: Path) -> tuple[subprocess.Popen[str], Platform]:
    """The stand-in platform, on the port it had before: environments know its address."""
    known = data / "platform-port"
    tokens = {"the service": "demo-token-of-the-service", "purser": "demo-token-of-the-purser"}
    command = [sys.executable, "-m", "everyshelf.standin", "--file", str(data / "platform.sqlite")]
    command += ["--port", known.read_text() if known.exists() else "0"]
    command += ["--git", str(data / "repositories"), "--builds", str(data / "builds.json")]
    for person, token in tokens.items():
        command += ["--token", f"{person}={token}"]
    process = subprocess.Popen(command, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    address = process.stdout.readline().strip()
    if not address:
        raise click.ClickException("the stand-in platform did not start; is another demo running on this data?")
    known.write_text(address.rpartition(":")[2])
    return process, Platform(address, tokens["the service"], tokens["purser"])


def _wait_until_ready(address: str, process: subprocess.Popen[bytes], data: Path) -> None:
    with Client(address, timeout_seconds=5) as client:
        while True:  # a service that has neither answered nor ended is starting
            if process.poll() is not None:
                raise click.ClickException(f"the service did not start; is another one running, or is {address} taken?")
            try:
                client.person()
            except UnreachableError:
                time.sleep(0.1)
            else:
                return


def _build(address: str, data: Path, platform: Platform) -> None:
    start = time.monotonic()
    with terminal.progress_bar("Building Skerry Line") as progress:
        build(address, platform, data, progress)
    (data / _DONE).write_text("everything is built\n")
    terminal.say(terminal.bold("Demo ready") + f": four weeks of history, built in {time.monotonic() - start:.0f} s.")
    terminal.say()


def _show(address: str, data: Path, environment: dict[str, str]) -> None:
    """The main job, as anybody would do it, with real commands."""
    inside = {**environment, "EVERYSHELF_SHELF": SHELF, "EVERYSHELF_PASSWORD": PASSWORD, "EVERYSHELF_ADDRESS": address}
    _run(["connect", address, "--name", "maren", "--scope", "promote", "--scope", "admin"], inside, quiet=True)
    _run(["compare", "tag:spring-1", "tag:spring-2", "workflows/disruption-notice.bpmn"], inside)
    if _runs_in(inside, "test") == "spring-2":
        _run(["env", "list"], inside)
        return
    _run(["rehearse", "tag:spring-2", "test"], inside)
    _run(["promote", "tag:spring-2", "test", "--reason", "Spring timetable"], inside)


def _runs_in(environment: dict[str, str], name: str) -> str | None:
    answer = subprocess.run(
        [sys.executable, "-m", "everyshelf.cli.main", "env", "list", "--json"],
        env=environment,
        capture_output=True,
        check=True,
    ).stdout
    current = next(e["current"] for e in json.loads(answer) if e["name"] == name)
    return current["tag"] if current else None


def _run(arguments: list[str], environment: dict[str, str], *, quiet: bool = False) -> None:
    import shlex

    if not quiet:
        terminal.say(terminal.dim("$ ") + terminal.bold("everyshelf " + shlex.join(arguments)))
        sys.stdout.flush()
    output = subprocess.DEVNULL if quiet else None
    subprocess.run(
        [sys.executable, "-m", "everyshelf.cli.main", *arguments], env=environment, stdout=output, check=False
    )
    if not quiet:
        terminal.say()


def _say_where(address: str, data: Path) -> None:
    names = ", ".join(PEOPLE)
    terminal.say(terminal.bold(f"Every Shelf is at {address}") + f"; sign in as {names} with {PASSWORD}")
    terminal.say(terminal.dim(f"Ctrl+C stops it; everything lies in {data}."))
    sys.stdout.flush()

"""Errors as words on stderr and as exit codes, which are part of the contract.

0 done · 1 failed · 2 wrong usage · 3 conflicts to settle · 4 refused by a gate or by rights · 5 service out of reach ·
6 ``--fail-on`` met
"""

from __future__ import annotations

import json
import os
import sys
import traceback
from typing import Any

import click

_FACTS = ("conflicts", "gates", "paths", "errors", "head", "merge", "not_met")
DONE, FAILED, USAGE, CONFLICT, REFUSED, UNREACHABLE, FAIL_ON = range(7)


class FailOnMet(click.ClickException):
    """``--fail-on`` found what it looked for; everything is printed already."""

    exit_code = FAIL_ON


class Unsettled(click.ClickException):
    """Conflicts are left; they are printed already."""

    exit_code = CONFLICT


def report(error: Exception, arguments: list[str]) -> int:
    """Print the error and return the exit code; with --json the same as one document on stdout."""
    if isinstance(error, FailOnMet):
        return FAIL_ON
    if isinstance(error, Unsettled):
        click.echo(error.format_message(), err=True)
        return CONFLICT
    if isinstance(error, click.Abort):
        click.echo("Stopped.", err=True)
        return FAILED
    code, problem = _described(error)
    if "--json" in arguments:
        click.echo(json.dumps({"problem": problem}, ensure_ascii=False))
    _say(problem)
    return code


def _described(error: Exception) -> tuple[int, dict[str, Any]]:
    if isinstance(error, click.UsageError):
        hint = f"See {error.ctx.command_path} --help." if error.ctx else "See everyshelf --help."
        return USAGE, {"detail": error.format_message(), "code": "usage", "hint": hint}
    if isinstance(error, click.ClickException):
        return error.exit_code, {"detail": error.format_message(), "code": "failed", "hint": ""}
    if isinstance(error, BrokenPipeError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return FAILED, {"detail": "the reader of this output went away", "code": "output.closed", "hint": ""}
    if hasattr(error, "code") and hasattr(error, "hint"):
        message = getattr(error, "message", str(error))
        extra = getattr(error, "problem", None) or {}
        return _exit_code(error), {
            "detail": message,
            "code": error.code,
            "hint": error.hint,
            **{
                k: v
                for k, v in extra.items()
                if k in ("conflicts", "gates", "paths", "errors", "head", "merge", "not_met")
            },
        }
    if isinstance(error, OSError):
        return FAILED, {
            "detail": f"{error.filename or ''}: {error.strerror}".strip(": "),
            "code": "file.failed",
            "hint": "Look at the path and its rights.",
        }
    if os.environ.get("EVERYSHELF_TRACE"):
        traceback.print_exception(error)
    return FAILED, {
        "detail": f"something went wrong in the command itself: {type(error).__name__}: {error}",
        "code": "command.failed",
        "hint": "Run it again with EVERYSHELF_TRACE=1 and report what it prints.",
    }


def _exit_code(error: Exception) -> int:
    code = str(getattr(error, "code", ""))
    if code in ("merge.conflict", "branch.moved", "take.kept"):
        return CONFLICT
    if code in ("service.unreachable", "service.foreign"):
        return UNREACHABLE
    if getattr(error, "status", None) in (401, 403) or code.startswith(("rights.", "gate.", "proposal.not_ready")):
        return REFUSED
    return FAILED


def _say(problem: dict[str, Any]) -> None:
    click.echo(_sentence_case(problem["detail"]), err=True)
    for conflict in problem.get("conflicts", []):
        click.echo(f"  ≠ {conflict['path']}", err=True)
    if problem["hint"]:
        click.echo(problem["hint"], err=True)
    click.echo(f"({problem['code']})", err=True)


def _sentence_case(text: str) -> str:
    """A capital first, unless the first word is a file's name."""
    first = text.partition(" ")[0].rstrip(":,")
    return text if "." in first or "/" in first else f"{text[:1].upper()}{text[1:]}"

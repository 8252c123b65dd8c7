"""Recording checks and reading them."""

from __future__ import annotations

from pathlib import Path
from tempfile import NamedTemporaryFile
from typing import Any

from django.utils import timezone

from everyshelf.core.errors import InvalidError
from everyshelf.core.runs.counted import Results
from everyshelf.service.base.acts import one_act
from everyshelf.service.base.config import get_config
from everyshelf.service.base.context import reader
from everyshelf.service.checks.models import Check
from everyshelf.service.log.actions import note
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.models import Commit, Shelf


def record_check(caller: Caller, shelf: Shelf, ref: str, name: str, comment: str, link: str, *, passed: bool) -> Check:
    """Record what was found about the commit a ref stands for now."""
    require(caller, shelf, "record checks")
    commit = resolve(shelf, ref).commit
    if commit is None:
        raise InvalidError(f"{ref} has no commit to check", code="check.empty", hint="Commit something first.")
    if not name.strip() or "\n" in name:
        raise InvalidError("a check needs a name of one line", code="check.name", pointer="/name")
    with one_act():
        note(caller, "check.recorded", name.strip(), shelf, commit=commit.uid, passed=passed)
        return Check.objects.create(
            shelf=shelf,
            commit=commit,
            name=name.strip(),
            passed=passed,
            comment=comment,
            link=link,
            made=timezone.now(),
            made_by=caller.person,
        )


def results_in(data: bytes) -> Results:
    """What a file of test results comes to, read by a reading process; raises ``InvalidError`` (check.junit)."""
    with NamedTemporaryFile(dir=get_config().scratch, prefix="results-") as file, reader() as worker:
        file.write(data)
        file.flush()
        return worker.results("results.xml", Path(file.name))


def checks_of(commit: Commit | None) -> list[Check]:
    """The newest check of each name, by name."""
    if commit is None:
        return []
    newest: dict[str, Check] = {}
    for found in Check.objects.filter(commit=commit).select_related("made_by", "commit").order_by("id"):
        newest[found.name] = found
    return [newest[name] for name in sorted(newest)]


def check_json(check: Check) -> dict[str, Any]:
    """A check's public form."""
    return {
        "name": check.name,
        "passed": check.passed,
        "comment": check.comment,
        "link": check.link,
        "commit": check.commit.uid,
        "made": check.made,
        "made_by": check.made_by.username,
    }

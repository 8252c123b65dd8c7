"""What a repository, or all repositories of a person, are told so that Git asks us: settings and attributes.

Written with the person's own ``git config``, so that the files stay as Git writes them; removed without a trace.
"""

from __future__ import annotations

import os
import shlex
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from everyshelf.core.errors import InvalidError
from everyshelf.gitside.plain.attributes import DRIVER, patterns_of, read_block, write_block
from everyshelf.gitside.program import git_program

_SECTIONS = (f"diff.{DRIVER}", f"merge.{DRIVER}")
_FILTER = f"filter.{DRIVER}"


@dataclass(frozen=True)
class Scope:
    """Where settings go: ``folder`` is the working folder or bare repository, None for all repositories of a person;
    ``attributes`` the file of Git attributes."""

    folder: Path | None
    attributes: Path

    def git(self, *arguments: str, fine: Sequence[int] = (0,)) -> str:
        """Run the person's own Git there, with the person's settings."""
        return own_git(self.folder, *arguments, fine=fine)

    def config(self, *arguments: str, fine: Sequence[int] = (0,)) -> str:
        """``git config`` for these settings alone."""
        return self.git("config", "--local" if self.folder is not None else "--global", *arguments, fine=fine)


@dataclass(frozen=True)
class Installed:
    """What is set. ``settings``: name and value; ``patterns``: files Git asks us about; ``left``: those the
    repository has its own attributes for, with them; ``filters``: whether content notes become files; ``broken``: what
    keeps it from working, in words."""

    scope: Scope
    settings: dict[str, str]
    patterns: tuple[str, ...]
    left: dict[str, str]
    filters: bool
    broken: tuple[str, ...]


def own_git(folder: Path | None, *arguments: str, fine: Sequence[int] = (0,)) -> str:
    """Run the person's own Git; raises ``InvalidError`` (git.failed) with what it said unless its exit code is fine."""
    where = ["-C", str(folder)] if folder is not None else []
    done = subprocess.run([git_program(), *where, *arguments], capture_output=True, check=False)
    if done.returncode not in fine:
        said = done.stderr.decode("utf-8", "replace").strip().splitlines() or ["it said nothing"]
        raise InvalidError(f"git {arguments[0]} failed: {said[-1]}", code="git.failed")
    return done.stdout.decode("utf-8", "surrogateescape")


def scope_of(folder: Path, *, everywhere: bool) -> Scope:
    """The settings of the repository that ``folder`` is in, or of the person. Raises ``InvalidError`` (git.nowhere)
    outside a repository."""
    if everywhere:
        named = own_git(None, "config", "--global", "--type=path", "core.attributesFile", fine=(0, 1)).strip()
        home = os.environ.get("XDG_CONFIG_HOME") or os.path.expanduser("~/.config")
        return Scope(None, Path(named) if named else Path(home, "git", "attributes"))
    found = own_git(folder, "rev-parse", "--path-format=absolute", "--git-common-dir", fine=(0, 128)).strip()
    if not found:
        raise InvalidError(
            f"{folder} is not in a Git repository",
            code="git.nowhere",
            hint="Go to one, or set up all of yours: everyshelf git-tools install --global",
        )
    top = own_git(folder, "rev-parse", "--show-toplevel", fine=(0, 128)).strip()
    return Scope(Path(top or found), Path(found, "info", "attributes"))


def install(scope: Scope, program: str, kinds: Sequence[str], *, filters: bool) -> Installed:
    """Write settings and attributes; what was set before by us is replaced. ``program``: the command Git is to call."""
    called = shlex.quote(program)
    settings = {
        f"diff.{DRIVER}.command": f"{called} git-tools compare",
        f"diff.{DRIVER}.textconv": f"{called} git-tools text",
        f"merge.{DRIVER}.name": "merge by meaning",
        f"merge.{DRIVER}.driver": f"{called} git-tools merge %O %A %B %L %P",
        # The base of a criss-cross is made of several: there Git is to take a readable file, not marks of conflicts.
        f"merge.{DRIVER}.recursive": "binary",
    }
    if filters:
        settings[f"{_FILTER}.process"] = f"{called} git-filter"
    uninstall(scope)
    left = _attributes_of_others(scope, patterns_of(kinds))
    patterns = [pattern for pattern in patterns_of(kinds) if pattern not in left]
    for name, value in settings.items():
        scope.config(name, value)
    lines = [f"{pattern} diff={DRIVER} merge={DRIVER}" for pattern in patterns]
    write_block(scope.attributes, [*(["* filter=" + DRIVER] if filters else []), *lines])
    return replace(look(scope), left=left)


def look(scope: Scope) -> Installed:
    """What is set now."""
    lines = read_block(scope.attributes)
    patterns = tuple(line.split()[0] for line in lines if " diff=" in line)
    filters = any(line.endswith(f"filter={DRIVER}") for line in lines)
    settings: dict[str, str] = {}
    for section in (*_SECTIONS, _FILTER):
        for line in scope.config("--get-regexp", f"^{section}\\.", fine=(0, 1)).splitlines():
            name, _, value = line.partition(" ")
            settings[name] = value
    wanted = [f"diff.{DRIVER}.command", f"diff.{DRIVER}.textconv", f"merge.{DRIVER}.driver"] if patterns else []
    wanted += [f"{_FILTER}.process"] if filters else []
    broken = [f"the setting {name} is missing" for name in wanted if name not in settings]
    if settings and not patterns and not filters:
        broken.append(f"{scope.attributes} names no files")
    for value in dict.fromkeys(shlex.split(settings[name])[0] for name in wanted if name in settings):
        if not os.access(value, os.X_OK):
            broken.append(f"{value} is not a program any more")
    return Installed(scope, settings, patterns, {}, filters, tuple(broken))


def uninstall(scope: Scope) -> list[str]:
    """Remove settings and attributes; gives what went, in words."""
    gone = []
    for section in (*_SECTIONS, _FILTER):
        if scope.config("--get-regexp", f"^{section}\\.", fine=(0, 1)):
            scope.config("--remove-section", section)
            gone.append(f"settings {section}.*")
    if read_block(scope.attributes):
        write_block(scope.attributes, [])
        gone.append(f"lines in {scope.attributes}")
    return gone


def _attributes_of_others(scope: Scope, patterns: Sequence[str]) -> dict[str, str]:
    """Patterns for which the repository names drivers of its own: ours would take their place. A file marked
    as binary has no driver."""
    if scope.folder is None or not patterns:
        return {}
    names = {pattern.replace("*", "everyshelf-example"): pattern for pattern in patterns}
    said = own_git(scope.folder, "check-attr", "-z", "diff", "merge", "--", *names, fine=(0, 128)).split("\0")
    found: dict[str, str] = {}
    for name, attribute, value in zip(said[::3], said[1::3], said[2::3], strict=False):
        if value not in ("unspecified", "set", "unset", DRIVER):
            pattern = names[name]
            found[pattern] = " ".join([*found.get(pattern, "").split(), f"{attribute}={value}"])
    return found

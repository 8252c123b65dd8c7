"""Repositories made by ``git`` itself from the releases of packages, one commit a release: fetched into an empty shelf and
sent to an empty repository, they must have the same ids. The releases come from the package registry."""

from __future__ import annotations

import email.parser
import json
import os
import re
import shutil
import subprocess
import sys
import tarfile
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from tempfile import TemporaryDirectory
from urllib.parse import urljoin

from packaging.version import InvalidVersion, Version
from tests.support.git import run_git
from tests.support.service import Service

from bench.measure import Figure

# One with a submodule, one with names and messages that are not UTF-8, one with CRLF; the last has thousands of releases.
PACKAGES = ("certifi", "idna", "click", "attrs", "types-requests", "boto3")
_ZONES = ("+0000", "-0500", "+0930", "+0545")


def histories(most: int = int(os.environ.get("EVERYSHELF_BENCH_RELEASES", "2500"))) -> Iterator[Figure]:
    """For each package: how many of its branches and tags have other ids afterwards."""
    with TemporaryDirectory(prefix="es-histories-") as home:
        service = Service()
        try:
            for package in PACKAGES:
                yield _there_and_back(service, package, Path(home), most)
        finally:
            service.stop()


def _there_and_back(service: Service, package: str, home: Path, most: int) -> Figure:
    place = service.repositories
    there, empty = place / package, place / f"{package}-back.git"
    _make(package, there, home / package, most)
    run_git("init", "-q", "--bare", "-b", "main", str(empty), folder=place)
    client = service.client()
    shelf = client.shelf(client.make_shelf(package).key)
    shelf.make_git_link("there", str(there), way="fetch")
    shelf.make_git_link("back", str(empty), way="send")
    shelf.wait(shelf.fetch_git_link("there"))
    shelf.wait(shelf.send_git_link("back"))
    refs = [set(run_git("for-each-ref", folder=folder).stdout.splitlines()) for folder in (there, empty)]
    commits = run_git("rev-list", "--count", "--all", folder=there).stdout.strip()
    whole = run_git("fsck", "--strict", folder=empty, code=None).returncode == 0
    other = len(refs[0] ^ refs[1])
    detail = f"{commits} commits, {len(refs[0])} branches and tags; git fsck {'clean' if whole else 'FAILS'}"
    return Figure("law2", f"{package}: branches and tags with other ids", other, "0", not other and whole, detail)


def _make(package: str, there: Path, kept: Path, most: int) -> None:
    """A repository with a commit for each release."""
    there.mkdir()
    run_git("init", "-q", "-b", "main", ".", folder=there)
    for number, release in enumerate(releases_of(package, kept)[:most]):
        try:
            _commit(package, there, release, number)
        except tarfile.TarError:
            continue


def _commit(package: str, there: Path, release: Path, number: int) -> None:
    for old in there.iterdir():
        if old.name != ".git":
            shutil.rmtree(old) if old.is_dir() and not old.is_symlink() else old.unlink()
    who, mail, newest = unpack(release, there)
    if package == "idna":
        Path(os.fsdecode(os.fsencode(there) + b"/caf\xe9%d.txt" % (number % 3))).write_bytes(b"%d\n" % number)
    if package == "click":
        for file in there.rglob("*.py"):
            file.write_bytes(file.read_bytes().replace(b"\r\n", b"\n").replace(b"\n", b"\r\n"))
    run_git("add", "-A", ".", folder=there)
    if package == "certifi":
        entry = f"160000,{number // 5 + 1:040x},vendor/dep"
        run_git("update-index", "--add", "--cacheinfo", entry, folder=there)
    odd = package == "idna"
    message = f"Release {release.name}\n\nwith café\n".encode("latin-1" if odd else "utf-8")
    dates = {"GIT_AUTHOR_DATE": f"{newest} {_ZONES[number % 4]}", "GIT_COMMITTER_DATE": f"{newest + number} +0000"}
    names = {
        "GIT_AUTHOR_NAME": who,
        "GIT_AUTHOR_EMAIL": mail,
        "GIT_COMMITTER_NAME": "Bot",
        "GIT_COMMITTER_EMAIL": "b@x.invalid",
    }
    subprocess.run(
        ["git", *(["-c", "i18n.commitEncoding=ISO-8859-1"] if odd else []), "commit", "-q", "--allow-empty", "-F", "-"],
        cwd=there,
        env={**os.environ, "GIT_CONFIG_GLOBAL": os.devnull, **dates, **names},
        input=message,
        check=True,
    )
    if number % 7 == 0:
        run_git("tag", "-a", "-m", f"Release {number}", f"r{number}", folder=there)
    if number % 7 == 3:
        run_git("tag", f"light{number}", folder=there)
    if number % 11 == 5:
        run_git("checkout", "-q", "-b", f"side{number}", folder=there)
        run_git("commit", "-q", "--allow-empty", "-m", f"Side {number}", folder=there)
        run_git("checkout", "-q", "main", folder=there)
        run_git("merge", "-q", "--no-ff", "-m", f"Merge {number}", f"side{number}", folder=there)


def unpack(release: Path, there: Path) -> tuple[str, str, int]:
    """The files of a release; gives who made it and when."""
    who, mail, newest = "unknown", "unknown@x.invalid", 0
    with tarfile.open(release) as packed:
        for member in packed.getmembers():
            name = member.name.partition("/")[2]
            newest = max(newest, int(member.mtime))
            if not name or ".." in name or ".git" in name.split("/"):
                continue
            target = there / name
            target.parent.mkdir(parents=True, exist_ok=True)
            if member.issym():
                target.symlink_to(member.linkname)
            elif member.isfile() and (held := packed.extractfile(member)) is not None:
                data = held.read()
                target.write_bytes(data)
                target.chmod(0o755 if member.mode & 0o100 else 0o644)
                if name == "PKG-INFO":
                    told = email.parser.BytesParser().parsebytes(data)
                    who = re.sub(r"[<>\n]", " ", str(told["Author"] or who)).strip() or who
                    mail = re.sub(r"[<>\n]", " ", str(told["Author-email"] or mail)).partition(",")[0] or mail
    return who, mail, newest


def releases_of(package: str, kept: Path, last: int | None = None) -> list[Path]:
    """The packed sources of every release, or of the ``last`` ones, oldest first."""
    kept.mkdir(parents=True)
    address = f"{os.environ.get('PIP_INDEX_URL', 'https://pypi.org/simple').rstrip('/')}/{package}/"
    asked = urllib.request.Request(address, headers={"Accept": "application/vnd.pypi.simple.v1+json"})
    with urllib.request.urlopen(asked, timeout=60) as answer:
        files = [file for file in json.load(answer)["files"] if file["filename"].endswith(".tar.gz")]
    files.sort(key=lambda file: _version(file["filename"], package))
    for file in files[-last:] if last is not None else files:
        with urllib.request.urlopen(urljoin(address, file["url"]), timeout=60) as answer:
            (kept / file["filename"]).write_bytes(answer.read())
        print(f"     … {package}: {file['filename']}", end="\r", file=sys.stderr)
    return sorted(kept.iterdir(), key=lambda path: _version(path.name, package))


def _version(name: str, package: str) -> Version:
    try:
        return Version(name.removesuffix(".tar.gz")[len(package) + 1 :])
    except InvalidVersion:
        return Version("0")

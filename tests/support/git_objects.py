"""Repositories written object by object, by nothing of ours: what programs of all ages left behind."""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from hypothesis import strategies as st

from tests.support.git import git

Files = dict[bytes, tuple[bytes, bytes]]  # path -> mode, and the bytes of a file, or of a link, or a commit in hex


@dataclass
class OddCommit:
    """A commit to be written: parents by their number, and every line as it is to stand."""

    parents: tuple[int, ...]
    files: Files
    author: bytes
    committer: bytes
    headers: bytes
    message: bytes
    unsorted: bool = False


@dataclass
class ObjectFolder:
    """A bare repository whose objects are written one by one."""

    folder: Path
    written: set[str] = field(default_factory=set)

    def __post_init__(self) -> None:
        git("init", "-q", "--bare", "-b", "main", str(self.folder), folder=self.folder.parent)

    def put(self, kind: bytes, data: bytes) -> str:
        """A loose object (gitrepository-layout)."""
        framed = b"%s %d\0" % (kind, len(data)) + data
        identity = hashlib.sha1(framed).hexdigest()
        if identity not in self.written:
            target = self.folder / "objects" / identity[:2] / identity[2:]
            target.parent.mkdir(exist_ok=True)
            target.write_bytes(zlib.compress(framed, 1))
            self.written.add(identity)
        return identity

    def put_tree(self, files: Files, *, unsorted: bool = False) -> str:
        """A tree with all below it; ``unsorted``: folders without their slash, and with a padded mode."""
        here: dict[bytes, tuple[bytes, str]] = {}
        below: dict[bytes, Files] = {}
        for path, (mode, data) in files.items():
            name, slash, rest = path.partition(b"/")
            if slash:
                below.setdefault(name, {})[rest] = (mode, data)
            else:
                here[name] = (mode, data.decode() if mode == b"160000" else self.put(b"blob", data))
        for name, inner in below.items():
            here[name] = (b"040000" if unsorted else b"40000", self.put_tree(inner, unsorted=unsorted))
        ordered = sorted(here, key=lambda n: n + b"/" if n in below and not unsorted else n)
        rows = [b"%s %s\0%s" % (here[n][0], n, bytes.fromhex(here[n][1])) for n in ordered]
        return self.put(b"tree", b"".join(rows))

    def put_history(self, commits: list[OddCommit]) -> list[str]:
        """All of them; each that no other builds on gets a branch."""
        made: list[str] = []
        for commit in commits:
            lines = [b"tree " + self.put_tree(commit.files, unsorted=commit.unsorted).encode()]
            lines += [b"parent " + made[number].encode() for number in commit.parents]
            lines += [b"author " + commit.author, b"committer " + commit.committer]
            head = b"\n".join(lines) + b"\n" + commit.headers
            made.append(self.put(b"commit", head + b"\n" + commit.message))
        inner = {number for commit in commits for number in commit.parents}
        for number, identity in enumerate(made):
            if number not in inner:
                self.put_ref(f"refs/heads/b{number}", identity)
        return made

    def put_ref(self, name: str, identity: str) -> None:
        """Let a ref name an object."""
        target = self.folder / name
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_text(f"{identity}\n")


_NAMES = [
    b"fares.csv",
    b"run.sh",
    b"data/zones.csv",
    b"data/deep/rates.json",
    b"apps/board.json",
    b"caf\xe9.txt",
    "hårbor/ferjä.txt".encode(),
    b"aux",
    b"data/ends with blank ",
    b"back\\slash.txt",
    b"odd\xff/inner.txt",
    b".everyshelf/desk",
    b"data.d",
    b"data",
    b"line\nbreak",
]
_CONTENTS = [
    b"route,fare\nAB,1\nBC,2\n",
    b"route,fare\nAB,1\nBC,3\n",
    b"crlf\r\nlines\r\n",
    bytes(range(256)),
    b"",
    b"x" * 3000,
    bytes(range(256)) * 80,
    b'# In Git this is a symbolic link. Every Shelf keeps it and does not follow it.\nform = 1\nlink = "data"\n',
    b"# In Git this is something else\n",
    b'# Every Shelf content note: of another shelf\nform = 1\nsha256 = "'
    + b"ab" * 32
    + b'"\nsize = 5\nkind = "dataset"\n',
]
_MODES = [b"100644", b"100644", b"100644", b"100755", b"120000", b"160000", b"100664"]
_WHO = [
    b"Oskar Berg <oskar@port.example>",
    b"J\xe9r\xf4me <j@port.example>",
    " Åse, of the pier <aase@pier.example>".encode(),
    b"<nobody@pier.example>",
    b"purser <>",
]
_WHEN = [b"1700000000 +0100", b"1700000001 -0000", b"0 +0000", b"1699999999 +051800", b"2147483648 +1400", b"17 -1130"]
_HEADERS = [
    b"",
    b"encoding ISO-8859-1\n",
    b"gpgsig -----BEGIN SIGNATURE-----\n \n wsBcBAABCAAQ\n -----END SIGNATURE-----\n",
    b"HG:extra branch:piers\n",
    b"mergetag object 0000\n type commit\n tag v1\n",
    b'every-shelf {"time":"2026-01-01T00:00:00.000001+00:00"}\n',
    b"every-shelf what\n",
]
_MESSAGES = [
    b"Fares of 1 April\n",
    b"Fares of 1 April\n\nZones 3 and 4.\n\nMore of it.\n",
    b"",
    b"no line end",
    b"\n\n  late\n",
    b"wide \xe9\xe8\n",
    b"two\nlines\n",
    b"Check\n\nTask: SK-12\n",
    b'Check\n\nbody\n\nTask: SK-12\nLabel: source="a=b"\n',
    b"Check\n\nMoved: fares.csv -> data/zones.csv\nShelf-commit: " + b"ab" * 32 + b"\n",
    b"Check\n\nShelf-commit: abc\n",
    b"crlf\r\n\r\nbody\r\n",
    b"s" * 400 + b"\n",
]


def _clear(files: Files, path: bytes) -> None:
    """Make room for a path: what lies above or below it goes."""
    for other in [o for o in files if o.startswith(path + b"/") or path.startswith(o + b"/")]:
        del files[other]


@st.composite
def odd_histories(draw: st.DrawFn, most: int = 7) -> list[OddCommit]:
    """Histories with branches, merges of any number, moves, and whatever Git allows."""
    commits: list[OddCommit] = []
    for number in range(draw(st.integers(1, most))):
        several = draw(st.sampled_from([1, 1, 1, 1, 2, 2, 3, 0])) if number else 0
        parents = draw(st.permutations(range(number)))[:several] if number else []
        files = dict(commits[parents[0]].files) if parents else {}
        for parent in parents[1:]:
            files.update({p: f for p, f in commits[parent].files.items() if draw(st.booleans()) and p in files})
        for _ in range(draw(st.integers(0, 3))):
            path = draw(st.sampled_from(_NAMES))
            act = draw(st.sampled_from(["put", "put", "put", "mode", "move", "remove"]))
            if act == "put":
                mode = draw(st.sampled_from(_MODES))
                data = b"%040x" % draw(st.integers(1, 9)) if mode == b"160000" else draw(st.sampled_from(_CONTENTS))
                _clear(files, path)
                files[path] = (mode, data or b"x" if mode == b"120000" else data)
            elif path in files and act == "remove":
                del files[path]
            elif path in files and act == "move":
                there = draw(st.sampled_from(_NAMES))
                moved = files.pop(path)
                _clear(files, there)
                files[there] = moved
            elif path in files and files[path][0] != b"160000":
                files[path] = (draw(st.sampled_from([b"100644", b"100755"])), files[path][1])
        commits.append(
            OddCommit(
                tuple(parents),
                files,
                draw(st.sampled_from(_WHO)) + b" " + draw(st.sampled_from(_WHEN)),
                draw(st.sampled_from(_WHO)) + b" " + draw(st.sampled_from(_WHEN)),
                draw(st.sampled_from(_HEADERS)),
                draw(st.sampled_from(_MESSAGES)),
                unsorted=draw(st.integers(0, 9)) == 0,
            )
        )
    return commits


def files_at(repository: Path, commit: str) -> Mapping[str, str]:
    """Path -> mode and object, asked of Git itself."""
    rows = git("ls-tree", "-r", "-z", commit, folder=repository).split("\0")[:-1]
    return {path: about for about, _, path in (row.partition("\t") for row in rows)}

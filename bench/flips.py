"""Flipped bits over a data folder: segments sealed and open, directories, records, keys.

Each flip is harmless, or named with what it harms; nothing else is lost; the service starts or says why. Judged by the
contents themselves, which the caller knows.
"""

from __future__ import annotations

import os
import random
import shutil
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from tests.support.factories import commit_files
from tests.support.service import Service

from bench.measure import Figure
from everyshelf.core.content.healing import heal
from everyshelf.core.content.ids import content_id
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.scanning import iter_records
from everyshelf.core.content.store import ContentStore


@dataclass
class Outcome:
    """How many flips were made, how many were noticed, and a line for each that was not dealt with."""

    flips: int = 0
    noticed: int = 0
    wrong: list[str] = field(default_factory=list)


def campaign(data: Path, files: dict[str, bytes], shelf: str, *, seed: int, stores: int, services: int) -> Outcome:
    """``stores`` flips looked at through the content store alone, ``services`` through a service that is started."""
    rng, outcome = random.Random(seed), Outcome()
    for number in range(stores):
        _flip_store(data, files, random.Random(rng.random()), outcome, number)
    for number in range(services):
        _flip_service(data, files, shelf, random.Random(rng.random()), outcome, number)
    return outcome


def _flip(path: Path, rng: random.Random) -> int:
    content = bytearray(path.read_bytes())
    where = rng.randrange(len(content))
    content[where] ^= 1 << rng.randrange(8)
    path.write_bytes(bytes(content))
    return where


def _flip_store(data: Path, files: dict[str, bytes], rng: random.Random, outcome: Outcome, number: int) -> None:
    """One flip in a segment, sealed or open, or in a directory: only what lies there is lost, and verifying says so."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder, "segments")
        shutil.copytree(data / "segments", copy)
        sort = rng.choice(["sealed", "open", "directory"])
        target = rng.choice(sorted(copy.glob("*.dir" if sort == "directory" else "*.seg")))
        held = {
            record.id.hex(): (offset, offset + 52 + len(record.payload))
            for offset, record in iter_records(ContentStore(data / "segments").segments.place, target.name)
        }
        where = _flip(target, rng)
        if sort == "open":
            target.with_suffix(".dir").unlink()
        store = ContentStore(copy)
        try:
            for path, content in files.items():
                identity = content_id(content)
                fine = store.has(identity) and store.verify(identity) is None
                hit = sort != "directory" and identity in held and held[identity][0] <= where < held[identity][1]
                if fine and store.read(identity) != content:
                    outcome.wrong.append(f"store {number}: {path} reads as something else, {sort} byte {where}")
                elif not fine and not hit:
                    outcome.wrong.append(f"store {number}: {path} is lost by {sort} byte {where}")
            if sort == "open" and not store.segments.damage():
                outcome.wrong.append(f"store {number}: {sort} byte {where} is not named")
            outcome.noticed += bool(store.segments.damage() or store.segments.inspect())
            heal(store, FolderPlace(data / "segments"))
            ids = [content_id(content) for content in files.values()]
            if left := [identity for identity in ids if store.verify(identity) is not None]:
                outcome.wrong.append(f"store {number}: {len(left)} contents are not healed, {sort} byte {where}")
        finally:
            store.close()
        outcome.flips += 1


def _flip_service(
    data: Path, files: dict[str, bytes], shelf: str, rng: random.Random, outcome: Outcome, number: int
) -> None:
    """One flip anywhere in the data folder or its key: the service starts and serves all else, or says why not."""

    from everyshelf.client import ClientError

    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder, "data")
        shutil.copytree(data, copy)
        shutil.copy(data.with_name(f"{data.name}.key"), copy.with_name("data.key"))
        choices = ["records.sqlite", "secret-key", "format", "../data.key", "sealed-mark"]
        choices += [f"segments/{p.name}" for p in sorted((copy / "segments").iterdir()) if p.stat().st_size]
        target = copy / rng.choice(choices)
        where = _flip(target, rng)
        what = f"service {number}: {target.name} byte {where}"
        outcome.flips += 1
        service = None
        try:
            service = Service(copy)
        except AssertionError:
            said = (copy / "log.txt").read_text()
            if "Traceback" in said or ("(serve." not in said and "(secrets." not in said):
                outcome.wrong.append(f"{what}: {said[-400:]}")
            outcome.noticed += 1
            return
        except ClientError as error:
            outcome.wrong.append(f"{what}: it starts and answers {error}; {(copy / 'log.txt').read_text()[-400:]}")
            return
        try:
            with service.client() as client:
                one = client.shelf(shelf)
                lost = [path for path, content in files.items() if not _reads(one, path, content)]
                result = one.wait(one.verify()).result or {}
            named = " ".join(result.get("problems", []))
            outcome.noticed += bool(named)
            unnamed = [path for path in lost if f"{path} version" not in named and "records" not in named]
            if unnamed and not any(words in named for words in ("a folder of it", "commit ")):
                outcome.wrong.append(f"{what}: {unnamed[:3]} cannot be read, and verify says {named[:300]!r}")
            if lost and len(lost) > 8 and target.suffix == ".seg":
                outcome.wrong.append(f"{what}: {len(lost)} artifacts lost")
        except ClientError as error:
            # Records whose damage was met on the way: told as such, never as our own mistake.
            if getattr(error, "code", "") not in ("records.failed", "session.wrong", "job.failed"):
                outcome.wrong.append(f"{what}: {error}")
        finally:
            service.stop()


def _reads(shelf: object, path: str, content: bytes) -> bool:
    from everyshelf.client import ClientError

    try:
        return bool(shelf.read(path) == content)  # type: ignore[attr-defined]
    except ClientError:
        return False


def flips() -> Iterator[Figure]:
    """1,000 flips: 900 through the store, 100 through a service."""
    with tempfile.TemporaryDirectory(prefix="es-flips-") as folder:
        data = Path(folder, "data")
        data.mkdir()
        service = Service(data)
        with service.client() as client:
            shelf = client.shelf(client.make_shelf("Flips").key)
            rng = random.Random(1)
            for n in range(6):
                commit_files(shelf, {f"{k}.txt": rng.randbytes(400) for k in range(n * 10, n * 10 + 10)}, f"Commit {n}")
            files = {a.path: shelf.read(a.path) for a in shelf.artifacts()}
            key = shelf.key
        service.stop()
        outcome = campaign(data, files, key, seed=int(os.environ.get("SEED", "1")), stores=900, services=100)
    for line in outcome.wrong[:40]:
        print("       !", line, flush=True)
    what = f"of {outcome.flips} flipped bits harmed something unnamed"
    detail = f"{outcome.noticed} noticed and named, the others harmless"
    yield Figure("A1", what, len(outcome.wrong), "0", not outcome.wrong, detail)

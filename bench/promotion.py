"""T20: a promotion of 10,000 artifacts of which 50 changed, against putting all of them there; and what was written,
counted at the destination."""

from __future__ import annotations

import random
import tempfile
from collections.abc import Iterator
from pathlib import Path

from tests.support.standin import TOKEN, Standin

from bench.measure import Figure, interleave
from everyshelf.core.content.ids import content_id
from everyshelf.core.promotion.destination import Destination, Manifest, Placed
from everyshelf.core.promotion.folder import FolderDestination
from everyshelf.destinations.platform import PlatformDestination
from everyshelf.destinations.reach import Reach

_ARTIFACTS, _CHANGED, _BYTES = 10_000, 50, 4096


def _states() -> tuple[dict[str, bytes], dict[str, bytes]]:
    rng = random.Random(20)
    one = {f"folder{n % 100:02}/artifact-{n:05}.json": rng.randbytes(_BYTES) for n in range(_ARTIFACTS)}
    changed = rng.sample(sorted(one), _CHANGED)
    return one, {**one, **{path: rng.randbytes(_BYTES) for path in changed}}


def _manifest(state: dict[str, bytes]) -> Manifest:
    return {path: Placed(content_id(data), len(data)) for path, data in state.items()}


def _promote(destination: Destination, key: str, state: dict[str, bytes], manifest: Manifest) -> None:
    present = destination.present()
    destination.stage(key, present, manifest, lambda path: iter([state[path]]))
    destination.switch(key)
    touched = [path for path, placed in manifest.items() if present.get(path) != placed]
    assert destination.differences(key, manifest, touched) == []


def _folder() -> Figure:
    states = _states()
    manifests = [_manifest(state) for state in states]
    with tempfile.TemporaryDirectory() as folder:
        kept = FolderDestination(Path(folder, "kept"))
        kept.root.mkdir()
        _promote(kept, "first", states[0], manifests[0])
        count = iter(range(1, 1000))

        def some() -> None:
            number = next(count)
            _promote(kept, f"some-{number}", states[number % 2], manifests[number % 2])

        def everything() -> None:
            number = next(count)
            fresh = FolderDestination(Path(folder, f"fresh-{number}"))
            fresh.root.mkdir()
            _promote(fresh, "all", states[0], manifests[0])

        for _ in range(3):  # a folder nobody reads any more is there from the third promotion on
            some()
        taken = interleave({"some": some, "everything": everything})
    ratio = taken["some"] / taken["everything"]
    what = f"{_ARTIFACTS:,} artifacts, {_CHANGED} changed, into a folder, against all of them"
    return Figure(
        "T20", what, ratio, "<= 0.1", ratio <= 0.1, f"{taken['some']:.2f} against {taken['everything']:.2f} s"
    )


def _platform() -> Figure:
    one, two = _states()
    standin = Standin()
    try:
        space = standin.space()
        destination = PlatformDestination(space.address, TOKEN, Reach(("127.0.0.1",)), timeout_seconds=300)
        _promote(destination, "one", one, _manifest(one))
        before = len(space.trail())
        _promote(destination, "two", two, _manifest(two))
        written = len(space.trail()) - before
    finally:
        standin.close()
    what = f"of {_ARTIFACTS:,} artifacts on a platform, {_CHANGED} changed: written there"
    return Figure("T20", what, written, f"{_CHANGED}", written == _CHANGED, "counted in the platform's own trail")


def promotion() -> Iterator[Figure]:
    """Both."""
    yield _folder()
    yield _platform()

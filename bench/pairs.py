"""What versions take that people really made: files of published packages, release after release, by their format.

Of each file that a release changed, the versions are put into a store one after the other and tidied. Told is what the
later ones take, against each of them compressed by zstd-1 by itself; the releases come from the package registry.
"""

from __future__ import annotations

import tempfile
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

import zstandard

from bench.histories import releases_of, unpack
from bench.measure import Figure
from bench.versions import stored_of

# Tables of numbers as text, descriptions of services as JSON in gzip, lists of countries as JSON, notebooks, workbooks,
# Parquet, time zones as binary, phone numbers as code, and much else that lies beside them.
PACKAGES = {
    "astropy-iers-data": 8, "botocore": 5, "pycountry": 8, "nbconvert": 8, "xlsxwriter": 5, "fastparquet": 6,
    "tzdata": 8, "phonenumbers": 5, "holidays": 6, "pyarrow": 2,
}  # fmt: skip
_SMALLEST, _LARGEST = 8_000, 16_000_000
_FEWEST = 3  # files of a format, to tell it


def pairs() -> Iterator[Figure]:
    """A figure for each format of which enough changed."""
    chains: dict[str, list[list[bytes]]] = defaultdict(list)
    with tempfile.TemporaryDirectory(prefix="es-pairs-") as home:
        for package, last in PACKAGES.items():
            for path, versions in _chains(package, Path(home), last).items():
                chains[_format_of(path)].append(versions)
    for name, found in sorted(chains.items()):
        if len(found) >= _FEWEST:
            yield _figure(name, found)


def _figure(name: str, chains: list[list[bytes]]) -> Figure:
    alone = sum(_compressed(version) for versions in chains for version in versions[1:])
    first = sum(stored_of([versions[0]]) for versions in chains)
    all_of_them = sum(map(stored_of, chains))
    share = (all_of_them - first) / alone
    count = sum(len(versions) - 1 for versions in chains)
    told = f"{count} later versions of {len(chains)} files, {alone / 1e6:.1f} MB"
    return Figure("pairs", f"{name}: later versions, against each compressed by itself", share, "< 1", share < 1, told)


def _compressed(data: bytes) -> int:
    return len(zstandard.ZstdCompressor(level=1).compress(data))


def _chains(package: str, home: Path, last: int) -> dict[str, list[bytes]]:
    """The versions of each file that changed, by its path, the oldest first."""
    found: dict[str, list[bytes]] = defaultdict(list)
    for release in releases_of(package, home / package, last):
        there = home / f"{release.name}-files"
        unpack(release, there)
        for file in there.rglob("*"):
            if file.is_file() and not file.is_symlink() and _SMALLEST <= file.stat().st_size <= _LARGEST:
                data, versions = file.read_bytes(), found[str(file.relative_to(there))]
                if not versions or versions[-1] != data:
                    versions.append(data)
    return {path: versions for path, versions in found.items() if len(versions) > 1}


def _format_of(path: str) -> str:
    name = path.rpartition("/")[2]
    return "".join(Path(name).suffixes[-2:] if name.endswith(".gz") else Path(name).suffixes[-1:]) or "(none)"

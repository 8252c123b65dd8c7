"""Settings of the service: environment variables ``EVERYSHELF_*`` first, then ``everyshelf.toml`` in the data folder.

=======================  ======================================================================= ==============
name                     what                                                                    default
=======================  ======================================================================= ==============
EVERYSHELF_DATA          the folder that holds everything                                        user data folder
EVERYSHELF_HOST          address to listen on                                                    127.0.0.1
EVERYSHELF_PORT          port to listen on                                                       7463
EVERYSHELF_HOSTS         host names the service answers to, by commas                            loopback names
EVERYSHELF_WORKERS       processes that answer requests                                          processors
EVERYSHELF_PROCESSES     processes among which long work on many things is shared out            processors
EVERYSHELF_PLACES        folders in which environments may live, by the path separator           DATA/environments
EVERYSHELF_REPOSITORIES  Git repositories on this machine that links and environments may use,   none
                         by the path separator; FOLDER/* for all directly in a folder
EVERYSHELF_KEY_FILE      the key that seals secrets                                              beside DATA: DATA.key
EVERYSHELF_MAX_UPLOAD    largest upload in bytes                                                 20 GiB
EVERYSHELF_MAX_ROWS      bytes of rows kept from comparisons of tables, for paging               4 GiB
EVERYSHELF_REACH         hosts that environments may be at, by commas: platforms, databases,     none
                         Git repositories. HOST or HOST:PORT; *.DOMAIN for all below it
EVERYSHELF_IN_PLACE      folders whose files may be registered where they lie, by the path       none
                         separator
EVERYSHELF_PROXY         address of the proxy in front, whose X-Forwarded headers are believed   none
EVERYSHELF_BACKUP        folder, best on another disk, or s3://BUCKET/PREFIX for backups         none
EVERYSHELF_BACKUP_ENDPOINT  address of the S3-compatible service that has that bucket            the default one
EVERYSHELF_BACKUP_HOURS  how often, in hours; 0 for never on its own                             24
EVERYSHELF_BACKUP_KEEP   how many of the newest are kept                                         14
EVERYSHELF_TIDY_HOURS    how often the store is tidied, in hours; 0 for never on its own         1
EVERYSHELF_GRACE_HOURS   how long contents that were sent and never used are held                168
EVERYSHELF_STORE         where versions live: s3://BUCKET/PREFIX                                 DATA/segments
EVERYSHELF_STORE_ENDPOINT  address of the S3-compatible service that has the bucket              the default one
EVERYSHELF_STORE_MINUTES how long new versions may lie on this machine only                      10
EVERYSHELF_STORE_CACHE   bytes of a bucket kept on this machine                                  4 GiB
EVERYSHELF_DASK          scheduler of a Dask cluster for long work: tcp://HOST:PORT               none
EVERYSHELF_DASK_ROWS     rows of a table from which the cluster is used                          5,000,000
EVERYSHELF_HTTPS         yes if people reach the service by https: Secure cookies, HSTS          no
EVERYSHELF_RAW_CSV       yes to leave formulas in CSV files that leave as they are               no
=======================  ======================================================================= ==============
"""

from __future__ import annotations

import functools
import os
import secrets
import tomllib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from platformdirs import user_data_path

from everyshelf.core.errors import InvalidError
from everyshelf.service.base.key_files import damaged_key, read_or_make

DEFAULT_PORT = 7463
_MAX_UPLOAD = 20 * 1024**3
_MAX_ROWS = 4 * 1024**3
_STORE_CACHE = 4 * 1024**3
_MOST_WORKERS = 64
_DASK_ROWS = 5_000_000
_MERGE_SECONDS = 4  # what a merge may take within a request; the rest is a job


@dataclass(frozen=True)
class Config:
    """Where things lie and how far they may go."""

    data: Path
    host: str
    port: int
    hosts: tuple[str, ...]
    places: tuple[Path, ...]
    max_upload_bytes: int
    key_file: Path
    proxy: str = ""
    https: bool = False
    reach: tuple[str, ...] = ()
    raw_csv: bool = False
    max_rows_bytes: int = _MAX_ROWS
    merge_seconds: int = _MERGE_SECONDS
    workers: int = 1
    processes: int = 1
    backup: str = ""
    backup_endpoint: str = ""
    backup_hours: int = 24
    backup_keep: int = 14
    tidy_hours: int = 1
    grace_hours: int = 168
    in_place: tuple[Path, ...] = ()
    repositories: tuple[Path, ...] = ()
    store: str = ""
    store_endpoint: str = ""
    store_minutes: int = 10
    store_cache_bytes: int = _STORE_CACHE
    dask: str = ""
    dask_rows: int = _DASK_ROWS

    @property
    def segments(self) -> Path:
        """The folder of the content store."""
        return self.data / "segments"

    @property
    def scratch(self) -> Path:
        """Files that may be removed at any start."""
        return self.data / "scratch"

    @property
    def database(self) -> Path:
        """The SQLite file of the records."""
        return self.data / "records.sqlite"

    def secret_key(self) -> str:
        """The key that signs sessions: made at the first start, readable by its owner only."""
        made = read_or_make(self.data / "secret-key", lambda: secrets.token_urlsafe(48).encode(), "serve.key")
        try:
            return made.decode("ascii")
        except UnicodeDecodeError as error:
            raise damaged_key(self.data / "secret-key", "serve.key") from error


def _folder_or_bucket(place: str) -> str:
    return place if not place or place.startswith("s3://") else str(Path(place).absolute())


@functools.cache
def get_config() -> Config:
    """The settings of this process, read once."""
    data = Path(os.environ.get("EVERYSHELF_DATA") or user_data_path("everyshelf")).absolute()
    data.mkdir(parents=True, exist_ok=True, mode=0o700)
    stored = _stored(data / "everyshelf.toml")

    def value(name: str, default: Any) -> Any:
        return os.environ.get(f"EVERYSHELF_{name.upper()}") or stored.get(name, default)

    hosts = value("hosts", "")
    places = value("places", str(data / "environments"))
    return Config(
        data,
        str(value("host", "127.0.0.1")),
        _number("port", value("port", DEFAULT_PORT)),
        tuple(h for h in str(hosts).split(",") if h) or ("127.0.0.1", "localhost", "[::1]"),
        tuple(Path(p).absolute() for p in str(places).split(os.pathsep)),
        _number("max_upload", value("max_upload", _MAX_UPLOAD)),
        Path(value("key_file", data.with_name(f"{data.name}.key"))).absolute(),
        proxy=str(value("proxy", "")),
        https=_yes("https", value("https", False)),
        reach=tuple(h.strip().lower() for h in str(value("reach", "")).split(",") if h.strip()),
        raw_csv=_yes("raw_csv", value("raw_csv", False)),
        max_rows_bytes=_number("max_rows", value("max_rows", _MAX_ROWS)),
        merge_seconds=_number("merge_seconds", value("merge_seconds", _MERGE_SECONDS)),
        backup=_folder_or_bucket(str(value("backup", ""))),
        backup_endpoint=str(value("backup_endpoint", "")),
        backup_hours=_number("backup_hours", value("backup_hours", 24)),
        backup_keep=max(1, _number("backup_keep", value("backup_keep", 14))),
        tidy_hours=_number("tidy_hours", value("tidy_hours", 1)),
        grace_hours=max(1, _number("grace_hours", value("grace_hours", 168))),
        in_place=tuple(Path(p).absolute() for p in str(value("in_place", "")).split(os.pathsep) if p),
        repositories=tuple(Path(p).absolute() for p in str(value("repositories", "")).split(os.pathsep) if p),
        store=str(value("store", "")),
        store_endpoint=str(value("store_endpoint", "")),
        store_minutes=max(1, _number("store_minutes", value("store_minutes", 10))),
        store_cache_bytes=_number("store_cache", value("store_cache", _STORE_CACHE)),
        dask=str(value("dask", "")),
        dask_rows=_number("dask_rows", value("dask_rows", _DASK_ROWS)),
        workers=_count("workers", value("workers", 0)),
        processes=_count("processes", value("processes", 0)),
    )


def _count(name: str, value: Any) -> int:
    """A number of processes; 0 for that of the processors."""
    return min(max(1, _number(name, value) or len(os.sched_getaffinity(0))), _MOST_WORKERS)


def _stored(path: Path) -> dict[str, Any]:
    if not path.exists():
        return {}
    try:
        return tomllib.loads(path.read_text())
    except tomllib.TOMLDecodeError as error:
        raise InvalidError(f"{path}: {error}", code="settings.syntax", hint="Fix the file and start again.") from error


def _yes(name: str, value: Any) -> bool:
    word = str(value).lower()
    if word not in ("1", "true", "yes", "on", "0", "false", "no", "off", ""):
        raise InvalidError(f"{name} must be yes or no, not {value!r}", code="settings.invalid")
    return word in ("1", "true", "yes", "on")


def _number(name: str, value: Any) -> int:
    try:
        return int(value)
    except ValueError as error:
        raise InvalidError(f"{name} must be a number, not {value!r}", code="settings.invalid") from error

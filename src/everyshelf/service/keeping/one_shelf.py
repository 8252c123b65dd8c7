"""One shelf alone from a backup: its records, the people in them, and the bytes that it reaches.

All of the backup is read, and only what belongs to the shelf is written. Of records that belong to no shelf (accounts;
but jobs of the installation, too, which may name artifacts of others) only those stay that it cannot do without
(``_STAYS``); so what is added later does not come along without anybody
thinking of it. What can be read again from the versions (words, names) is left out and read again when it is asked for.
"""

from __future__ import annotations

import contextlib
import functools
import sqlite3
from pathlib import Path

from everyshelf.core.content.gathering import copy_into
from everyshelf.core.content.place import FolderPlace
from everyshelf.core.content.store import ContentStore
from everyshelf.core.durable import sync_folder, to_disk
from everyshelf.core.errors import BrokenError, MissingError
from everyshelf.service.backups.checking import unpack_records
from everyshelf.service.backups.layout import FILES, Backups, Moment
from everyshelf.service.backups.making import Progress
from everyshelf.service.backups.restoring import restore_moment, write_files
from everyshelf.service.backups.saved_place import SavedPlace
from everyshelf.service.keeping.owners import way_to_shelf
from everyshelf.service.keeping.reaching import Reached, follow_records, held_contents

_SETTINGS = "everyshelf.toml"
_SHELVES, _PEOPLE, _LOG = "shelves_shelf", "auth_user", "log_logentry"
_STAYS = frozenset(
    {
        _PEOPLE,
        _LOG,
        "auth_group",
        "auth_group_permissions",
        "auth_permission",
        "auth_user_groups",
        "auth_user_user_permissions",
        "django_content_type",
        "django_migrations",
        "keeping_tidied",
    }
)
# Worked out from versions, with words that no shelf can be told of.
_READ_AGAIN = frozenset(
    {
        "find_foundversion",
        "find_headversion",
        "find_seenhead",
        "uses_namedkey",
        "uses_namesread",
        "uses_stateread",
    }
)
_INTERNAL = "sqlite_"


def restore_shelf(
    backups: Backups,
    moment: Moment,
    key: str,
    data: Path,
    progress: Progress,
    *,
    keys: tuple[Path, Path] | None = None,
) -> None:
    """As ``restore_moment``, of one shelf alone. Raises ``MissingError`` where the moment has no such shelf."""
    restore_moment(backups, moment, data, progress, keys=keys, write=functools.partial(_write, key))


def _write(key: str, backups: Backups, moment: Moment, target: Path, progress: Progress) -> None:
    records, segments = target / "records.sqlite", target / "segments"
    segments.mkdir(mode=0o700)
    unpack_records(backups, moment, records)
    keep_only(records, key)
    progress(0, 1, "reading the backup")
    store = ContentStore(SavedPlace(backups, moment))
    reached = Reached(store)
    follow_records(records, reached, lambda *_: None)
    contents = reached.contents.union(*held_contents(records).values())
    done = copy_into(store, FolderPlace(segments), contents, lambda part, total: progress(part, total, "contents"))
    if done.left:
        raise BrokenError(
            f"{len(done.left)} contents of the shelf are damaged in the backup",
            code="backup.damaged",
            hint="See what else is: everyshelf backup check. Restore another moment, or from another backup.",
        )
    sync_folder(segments)
    write_files(backups, moment, target, [name for name in FILES if name != _SETTINGS])


def keep_only(database: Path, key: str) -> None:
    """Remove from records all that does not belong to one shelf, durably; it lives in the main store then. Raises
    ``MissingError``."""
    with contextlib.closing(sqlite3.connect(database, isolation_level=None)) as records:
        shelf = records.execute(f"SELECT id FROM {_SHELVES} WHERE key = ?", [key]).fetchone()  # noqa: S608
        if shelf is None:
            known = [row[0] for row in records.execute(f"SELECT key FROM {_SHELVES} ORDER BY key")]  # noqa: S608
            raise MissingError(
                f"the backup has no shelf {key!r}", code="backup.shelf", hint=f"It has: {', '.join(known) or 'none'}."
            )
        records.execute("PRAGMA foreign_keys = OFF")
        records.execute("BEGIN")
        guards = list(records.execute("SELECT name, sql FROM sqlite_master WHERE type = 'trigger'"))
        for name, _ in guards:  # the log, which nothing removes from, is another one now
            records.execute(f'DROP TRIGGER "{name}"')
        for number, table in enumerate(tables := _tables(records)):
            # All are found before any is removed: the way to the shelf leads over rows of others.
            records.execute(f"CREATE TEMP TABLE going{number} AS {_going(records, table, shelf[0])}")
        for number, table in enumerate(tables):
            records.execute(f'DELETE FROM "{table}" WHERE rowid IN (SELECT row FROM going{number})')  # noqa: S608
            records.execute(f"DROP TABLE going{number}")
        records.execute(f"UPDATE {_SHELVES} SET store = ''")  # noqa: S608
        records.execute(f"DELETE FROM {_LOG} WHERE shelf <> ?", [key])  # noqa: S608
        _forget_words(records)
        _drop_strangers(records)
        _cut_links(records)
        for _, made in guards:
            records.execute(made)
        records.execute("COMMIT")
        records.execute("VACUUM")  # what was removed is not to be found in the file
    with database.open("r+b") as file:
        to_disk(file)


def _going(records: sqlite3.Connection, table: str, shelf: int) -> str:
    """A query for the rows of a table that do not come along."""
    way = way_to_shelf(records, table)
    rows = f'SELECT "{table}".rowid AS row FROM "{table}"'  # noqa: S608
    if table in _READ_AGAIN or (way is None and table not in _STAYS):
        return rows
    return f"{rows}{way.joins} WHERE {way.shelf}.id IS NOT {shelf:d}" if way is not None else f"{rows} WHERE 0"


def _tables(records: sqlite3.Connection) -> list[str]:
    """Tables of records: not those of which a table of words is made, nor those of SQLite."""
    rows = records.execute("SELECT name FROM sqlite_master WHERE type = 'table' ORDER BY name")
    words = tuple(f"{name}_" for name in _word_tables(records))
    names = [row[0] for row in rows]
    return [n for n in names if not n.startswith((_INTERNAL, *words)) and n not in _word_tables(records)]


def _word_tables(records: sqlite3.Connection) -> list[str]:
    rows = records.execute("SELECT name FROM sqlite_master WHERE sql LIKE 'CREATE VIRTUAL TABLE%'")
    return [row[0] for row in rows]


def _forget_words(records: sqlite3.Connection) -> None:
    """Empty the tables of words (https://www.sqlite.org/fts5.html#the_delete_all_command)."""
    for table in _word_tables(records):
        records.execute(f'INSERT INTO "{table}"("{table}") VALUES (\'delete-all\')')  # noqa: S608


def _drop_strangers(records: sqlite3.Connection) -> None:
    """Remove the accounts that nothing names any more, but for those of administrators."""
    named: set[int] = set()
    for table in _tables(records):
        for _, _, other, column, *_ in records.execute(f'PRAGMA foreign_key_list("{table}")'):
            if other == _PEOPLE:
                named |= {row[0] for row in records.execute(f'SELECT DISTINCT "{column}" FROM "{table}"')}  # noqa: S608
    people = {row[0] for row in records.execute(f"SELECT id FROM {_PEOPLE} WHERE NOT is_staff")}  # noqa: S608
    records.executemany(f"DELETE FROM {_PEOPLE} WHERE id = ?", [(one,) for one in people - named])  # noqa: S608


def _cut_links(records: sqlite3.Connection) -> None:
    """Let nothing name a row that is gone: empty the column where it may be empty, else remove the row, and so on."""
    while broken := list(records.execute("PRAGMA foreign_key_check")):
        for table, row, _, number in broken:
            keys = {one[0]: one[3] for one in records.execute(f'PRAGMA foreign_key_list("{table}")')}
            column = keys[number]
            columns = {one[1]: one[3] for one in records.execute(f'PRAGMA table_info("{table}")')}  # name: not null
            if columns[column]:
                records.execute(f'DELETE FROM "{table}" WHERE rowid = ?', [row])  # noqa: S608
            else:
                records.execute(f'UPDATE "{table}" SET "{column}" = NULL WHERE rowid = ?', [row])  # noqa: S608

"""The archive of the timetable: sailings of past years in a folder of their own, read where they lie."""

from __future__ import annotations

import csv
import random
from datetime import date, timedelta
from pathlib import Path

from everyshelf.client import Client

ARCHIVE = "timetable-archive"
FOLDER = "archive"  # below the folder of the demo; the service may read data there
_YEARS = range(2022, 2026)
_SAILINGS_A_DAY = 12
_CORRECTED = 2024  # a corrected file of this year lies beside the others
_LOST = 2022  # this one was written again after it was registered
_SEED = 20260419


def write_archive(folder: Path) -> None:
    """Write the sailings of each year into a file."""
    folder.mkdir(parents=True, exist_ok=True)
    for year in _YEARS:
        _write(folder, year)


def register_archive(client: Client, folder: Path, members: dict[str, str]) -> None:
    """A shelf whose artifacts point into the folder. Of one year there is a corrected version, and one was written again
    after it was registered."""
    about = "Sailings of past years, too many to copy: they are read in the folder where they are kept"
    client.make_shelf("Timetable archive", description=about, key=ARCHIVE)
    shelf = client.shelf(ARCHIVE)
    for name, role in members.items():
        shelf.set_member(name, role)
    shelf.wait(shelf.add_in_place("sailings", str(folder), summary="Sailings of past years, where they are kept"))
    corrected, name = folder / "corrected", _name(_CORRECTED)
    corrected.mkdir()
    _write(corrected, _CORRECTED, corrected=True)
    summary = f"{_CORRECTED} as the office corrected it"
    shelf.wait(shelf.add_in_place(f"sailings/{name}", str(corrected / name), summary=summary))
    _write(folder, _LOST, corrected=True)
    shelf.wait(shelf.check_in_place())


def _name(year: int) -> str:
    return f"sailings-{year}.csv"


def _write(folder: Path, year: int, *, corrected: bool = False) -> None:
    chance, day, number = random.Random(_SEED + year), date(year, 1, 1), 0
    with (folder / _name(year)).open("w", newline="", encoding="utf-8") as file:
        rows = csv.writer(file, lineterminator="\n")
        rows.writerow(("sailing", "day", "harbour", "vessel", "passengers", "minutes_late"))
        while day.year == year:
            for _ in range(_SAILINGS_A_DAY):
                number += 1
                harbour, vessel = chance.choice(("Alder", "Brae", "Cove", "Dunnet")), chance.choice(("Petrel", "Skua"))
                passengers, late = chance.randrange(0, 180), chance.randrange(0, 40)
                wrong = corrected and number % 40 == 0
                rows.writerow((number, day.isoformat(), harbour, vessel, passengers, late // 2 if wrong else late))
            day += timedelta(days=1)

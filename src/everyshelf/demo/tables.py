"""Sailings, fares and tides: tables with a fixed seed."""

from __future__ import annotations

import random
from datetime import date, timedelta

HARBOURS = ("Aldwick", "Brae", "Corran", "Dunmore", "Eskholm")
VESSELS = ("Kittiwake", "Fulmar", "Guillemot")
_TIMES = ("06:40", "08:15", "10:30", "13:00", "15:45", "18:20", "20:55")


def sailings(days: int, *, tide: bool = False, seed: int = 7) -> bytes:
    """``days`` days of sailings, seven a day on each of four crossings; with ``tide`` the column tide_height."""
    rng = random.Random(seed)
    rows = ["sailing_id,date,departs,from_harbour,to_harbour,vessel,passengers,delay_minutes,status"]
    if tide:
        rows[0] += ",tide_height"
    number = 10_000
    for day in range(days):
        on = date(2026, 1, 5) + timedelta(days=day)
        for crossing in range(4):
            for departs in _TIMES:
                number += 1
                late = max(0, round(rng.gauss(4, 7)))
                status = "cancelled" if rng.random() < 0.02 else "late" if late > 15 else "sailed"
                row = [
                    number,
                    on,
                    departs,
                    HARBOURS[crossing],
                    HARBOURS[crossing + 1],
                    rng.choice(VESSELS),
                    rng.randint(8, 240),
                    late,
                    status,
                ]
                height = f"{1.2 + 2.4 * rng.random():.2f}"
                rows.append(",".join(map(str, [*row, height] if tide else row)))
    return ("\n".join(rows) + "\n").encode()


def mend_sailings(data: bytes, every: int) -> bytes:
    """The same table with the status of every ``every``-th late sailing set right."""
    lines = data.decode().splitlines()
    late = 0
    for place, text in enumerate(lines):
        if ",late" in text:
            late += 1
            if late % every == 0:
                lines[place] = text.replace(",late", ",sailed")
    return ("\n".join(lines) + "\n").encode()


def fares(*, rise: dict[str, float] | None = None, extra: bool = False, style: str = "plain") -> bytes:
    """Fares by zone and class; ``rise`` multiplies those of a class. ``style`` "sheet" is how a spreadsheet saves it."""
    rows = [("zone", "class", "fare", "valid_from")]
    for zone in range(1, 11):
        for place, name in enumerate(("adult", "child", "bicycle", "car")):
            fare = (3.2 + 1.15 * zone) * (1, 0.5, 0.6, 3.4)[place] * (rise or {}).get(name, 1.0)
            rows.append((f"Z{zone:02d}", name, f"{fare:.2f}", "2026-03-01" if rise else "2025-10-01"))
    if extra:
        rows += [(f"Z{zone:02d}", "islander", f"{1.1 + 0.4 * zone:.2f}", "2026-03-01") for zone in range(1, 11)]
    if style == "sheet":
        return "\r\n".join(";".join(row) for row in rows).encode("utf-8-sig")
    return ("\n".join(",".join(row) for row in rows) + "\n").encode()


def passengers(days: int) -> bytes:
    """One row a ticket: a table of some size."""
    rng = random.Random(5)
    rows = ["ticket,date,zone,travels_as,paid,scanned_at"]
    number = 500_000
    for day in range(days):
        on = date(2026, 1, 5) + timedelta(days=day)
        for _ in range(720):
            number += rng.randint(1, 4)
            kind = rng.choice(("adult", "adult", "adult", "child", "bicycle", "car"))
            rows.append(
                f"{number},{on},Z{rng.randint(1, 10):02d},{kind},{3 + rng.random() * 12:.2f},"
                f"{rng.randint(6, 21):02d}:{rng.randint(0, 59):02d}"
            )
    return ("\n".join(rows) + "\n").encode()


def gate_log(kilobytes: int) -> bytes:
    """What the gate at the pier writes: a format nobody but the gate reads."""
    return b"GATE\x00\x01" + random.Random(13).randbytes(kilobytes * 1024)


def tides(days: int) -> bytes:
    """High and low water at two harbours."""
    rng = random.Random(11)
    rows = ["harbour,moment,height_m,kind"]
    for day in range(days):
        for hour, kind in ((3, "high"), (9, "low"), (15, "high"), (21, "low")):
            for harbour in HARBOURS[:2]:
                on = date(2026, 1, 5) + timedelta(days=day)
                height = (3.4 if kind == "high" else 0.7) + rng.random() * 0.6
                rows.append(f"{harbour},{on}T{hour:02d}:{rng.randint(0, 59):02d},{height:.2f},{kind}")
    return ("\n".join(rows) + "\n").encode()

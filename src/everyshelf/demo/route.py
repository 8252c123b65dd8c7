"""The route of the timetable: from a folder to the stand-in platform, and what the purser does there by hand."""

from __future__ import annotations

from dataclasses import dataclass

import httpx

from everyshelf.client import ShelfClient

_SENDERS = {"development": "Skerry Line (we are only trying)", "test": "Skerry Line, test", "production": "Skerry Line"}


@dataclass(frozen=True)
class Platform:
    """Where the stand-in listens, the token of the service there, and that of the purser."""

    address: str
    service_token: str
    purser_token: str


def make_route(shelf: ShelfClient, platform: Platform) -> None:
    """Three environments, each with its bindings."""
    others = {"patterns": ["bookings"]}  # what goes to databases
    shelf.make_environment("development", route="timetable", left_out=others, note="what we work on")
    for name, note in (("test", "the purser looks here"), ("production", "the harbours read this")):
        shelf.make_environment(
            name,
            route="timetable",
            destination="platform",
            address=f"{platform.address}/{name}",
            token=platform.service_token,
            fed_from="main",
            earlier_first=name == "production",
            note=note,
        )
    for name, sender in _SENDERS.items():
        shelf.bind(name, "NOTICE_SENDER", sender, secret=False)
        shelf.bind(name, "NOTICE_KEY", f"key-of-{name}-tern-4711", secret=True)


def set_gates(shelf: ShelfClient, platform: Platform) -> None:
    """What production asks for from now on, and what was changed there by hand."""
    shelf.change_environment(
        "production", gates={"guarded": True, "reviews": 1, "checks": ["fare rules"]}, watch_minutes=30
    )
    headers = {"Authorization": f"Bearer {platform.purser_token}"}
    with httpx.Client(base_url=f"{platform.address}/production/", headers=headers) as purser:
        screen = purser.get("objects/apps/gangway-check-in.json")
        if screen.is_success:
            body = screen.content.replace(b"Scan ticket", b"Scan ticket or pass")
            purser.put("objects/apps/gangway-check-in.json", params={"type": "screen"}, content=body)
    shelf.look_for_drift("production")

"""Take for each shelf what it uses already. Data in place that several shelves read stays readable to all of them."""

from __future__ import annotations

import os
from typing import Any

from django.db import migrations
from django.utils import timezone

from everyshelf.service.claims.actions.steps import file_steps, steps_of_environment, steps_of_link, touches


def _take(apps: Any, _editor: Any) -> None:
    claim, now = apps.get_model("claims", "Claim"), timezone.now()

    def take(shelf: int, use: str, holder: int, address: str, steps: Any) -> None:
        claim.objects.create(
            shelf_id=shelf, use=use, holder=holder, address=address, steps=list(steps), taken=now, taken_by=""
        )

    for row in apps.get_model("environments", "Environment").objects.filter(ended=None).order_by("pk"):
        for steps in steps_of_environment(row.destination, row.address):
            take(row.shelf_id, "environment", row.pk, row.address, steps)
    for row in apps.get_model("exchange", "GitLink").objects.order_by("pk"):
        for steps in steps_of_link(row.address):
            take(row.shelf_id, "link", row.pk, row.address, steps)
    folders = _folders_in_place(apps)
    for shelf, folder in folders:
        take(shelf, "in place", 0, folder, file_steps(os.path.realpath(folder)))
    shared = apps.get_model("claims", "SharedLocation")
    for shelf, folder in folders:
        steps = file_steps(os.path.realpath(folder))
        for other, theirs in folders:
            if other != shelf and touches(steps, file_steps(os.path.realpath(theirs))):
                shared.objects.create(
                    steps=list(file_steps(os.path.realpath(theirs))), address=theirs, shelf_id=shelf, by="", time=now
                )


def _folders_in_place(apps: Any) -> list[tuple[int, str]]:
    """The outermost folders of files that are registered in place, by shelf."""
    rows = apps.get_model("shelves", "OutsideContent").objects.filter(address__startswith="/")
    found: dict[int, set[str]] = {}
    for shelf, address in rows.values_list("shelf", "address").iterator():
        found.setdefault(shelf, set()).add(os.path.dirname(address))
    outermost = []
    for shelf, folders in sorted(found.items()):
        kept: list[str] = []
        for folder in sorted(folders):
            if not kept or not f"{folder}/".startswith(f"{kept[-1]}/"):
                kept.append(folder)
        outermost += [(shelf, folder) for folder in kept]
    return outermost


class Migration(migrations.Migration):
    """Claims of what is there."""

    dependencies = [
        ("claims", "0001_initial"),
        ("environments", "0005_comment_and_message"),
        ("exchange", "0003_parts_of_files"),
        ("shelves", "0008_shelf_store"),
    ]
    operations = [migrations.RunPython(_take, migrations.RunPython.noop)]

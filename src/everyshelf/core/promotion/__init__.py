"""Promotion: rehearse, stage, switch, verify, record; and the places an environment's artifacts live in."""

from everyshelf.core.promotion.database import DatabaseDestination
from everyshelf.core.promotion.destination import Destination, Fetch, Manifest, Placed
from everyshelf.core.promotion.folder import FolderDestination
from everyshelf.core.promotion.rehearsal import Drift, Rehearsal, rehearse

__all__ = [
    "DatabaseDestination",
    "Destination",
    "Drift",
    "Fetch",
    "FolderDestination",
    "Manifest",
    "Placed",
    "Rehearsal",
    "rehearse",
]

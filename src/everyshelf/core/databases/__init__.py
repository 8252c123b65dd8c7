"""A running database as files: its schema and chosen records read into one form, and put back in one transaction."""

from everyshelf.core.databases.engine import Changes, Database
from everyshelf.core.databases.layout import Layout, Place
from everyshelf.core.databases.plan import Plan, Step, plan_changes
from everyshelf.core.databases.schema import Check, Column, Index, Reference, Schema, Table, Unique

__all__ = [
    "Changes",
    "Check",
    "Column",
    "Database",
    "Index",
    "Layout",
    "Place",
    "Plan",
    "Reference",
    "Schema",
    "Step",
    "Table",
    "Unique",
    "plan_changes",
]

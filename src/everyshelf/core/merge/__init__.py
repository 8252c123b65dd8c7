"""Merging two versions of one artifact that grew from one base.

The merge by meaning (part by part, row by row, line by line) has its place here. So far an artifact is merged as a
whole: whoever changed it wins, and if both did, that is a conflict to settle.
"""

from everyshelf.core.merge.whole import Choice, Conflict, Side, merge_whole

__all__ = ["Choice", "Conflict", "Side", "merge_whole"]

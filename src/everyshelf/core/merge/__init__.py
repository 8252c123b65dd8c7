"""Merging two versions of one artifact that grew from one base, by what they mean.

Structured texts are merged item by item and field by field, tables by row and cell, other texts by lines; what has no
parts that can be told apart is taken from one side. What both sides changed in ways that do not go together is a
conflict, told in the terms of the kind, and settled by a decision.
"""

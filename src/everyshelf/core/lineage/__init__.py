"""Lineage: what versions were made from, in the forms in which it leaves the shelf."""

"""Every Shelf: versions artifacts, compares them by what they mean, promotes tagged versions.

Arrows point one way: cli -> desk -> client, core; service -> core; client -> nothing of ours.
"""

__version__ = "0.1.0"

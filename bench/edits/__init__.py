"""Generated pairs of edits to one file of realistic size, and what applying both must give.

Nothing here imports anything of ours: a document is a plain model, an edit a change of that model, and a file what a
small writer of the format makes of the model. What a merge must give is the model with both edits applied.
"""

from bench.edits.model import Pair, colliding, disjoint
from bench.edits.registry import FORMATS

__all__ = ["FORMATS", "Pair", "colliding", "disjoint"]

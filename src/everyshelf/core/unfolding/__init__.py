"""One file as readable parts, and back: ``unfold`` and ``fold``, and the folders they live in."""

from everyshelf.core.unfolding.folders import FOLDER_SUFFIX, read_folder, write_folder
from everyshelf.core.unfolding.model import MANIFEST, Folded, Unfolded
from everyshelf.core.unfolding.parcels import packed, unpacked_files
from everyshelf.core.unfolding.whole import UNFOLDED_KINDS, fold, unfold

__all__ = [
    "FOLDER_SUFFIX",
    "MANIFEST",
    "UNFOLDED_KINDS",
    "Folded",
    "Unfolded",
    "fold",
    "packed",
    "read_folder",
    "unfold",
    "unpacked_files",
    "write_folder",
]

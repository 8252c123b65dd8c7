"""Ground floor: content ids, chunks, segments, and the places where bytes live."""

from everyshelf.core.content.content_file import ContentFile
from everyshelf.core.content.cutter import CUTTER, cut_window
from everyshelf.core.content.ids import content_id, is_content_id
from everyshelf.core.content.place import FolderPlace, Place
from everyshelf.core.content.store import ContentInfo, ContentStore, ContentWriter

__all__ = [
    "CUTTER",
    "ContentFile",
    "ContentInfo",
    "ContentStore",
    "ContentWriter",
    "FolderPlace",
    "Place",
    "content_id",
    "cut_window",
    "is_content_id",
]

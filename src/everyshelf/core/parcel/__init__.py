"""Parcels: artifacts of one state in one file, a zipped bag (RFC 8493) that anybody can check without us.

::

    NAME/bagit.txt                  BagIt-Version: 1.0
    NAME/bag-info.txt               source, commit, size (Payload-Oxum)
    NAME/manifest-sha256.txt        checksum of each file under data/
    NAME/tagmanifest-sha256.txt     checksum of every other file but itself
    NAME/packed.json                what was packed: docs/parcels.md
    NAME/about/PATH.json            what is known of the artifact at PATH
    NAME/data/PATH                  the artifact, byte for byte

The same artifacts of the same state give the same bytes: entries are in order, and no time of the packing stands in it.
"""

from everyshelf.core.parcel.reading import Parcel
from everyshelf.core.parcel.writing import Packed, pack

__all__ = ["Packed", "Parcel", "pack"]

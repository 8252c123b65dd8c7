"""What the mapping is told beyond the history: part of what decides the ids in Git."""

from __future__ import annotations

from fnmatch import fnmatchcase

import msgspec

NOTE_BYTES = 10 * 1024 * 1024


class MappingSettings(msgspec.Struct, frozen=True, omit_defaults=True):
    """``note_bytes``: larger content goes to Git as a content note; ``note_patterns``: so does what is there."""

    note_bytes: int = NOTE_BYTES
    note_patterns: tuple[str, ...] = ()

    def is_noted(self, path: str, size: int) -> bool:
        """Whether a note stands in Git for the content at ``path``."""
        return size > self.note_bytes or any(fnmatchcase(path, pattern) for pattern in self.note_patterns)

"""Folders as trees, commits, ancestry: the state of a shelf and how it came to be."""

from everyshelf.core.history.commits import CommitData, Move, decode_commit, encode_commit
from everyshelf.core.history.paths import check_path
from everyshelf.core.history.trees import Change, Entry, Trees

__all__ = ["Change", "CommitData", "Entry", "Move", "Trees", "check_path", "decode_commit", "encode_commit"]

"""A desk: a local working folder that remembers the version each artifact came from."""

from everyshelf.desk.desk import Desk, Origin
from everyshelf.desk.errors import DeskError
from everyshelf.desk.states import Item, State, find_states

__all__ = ["Desk", "DeskError", "Item", "Origin", "State", "find_states"]

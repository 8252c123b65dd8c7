"""What programs write by themselves: no author chose it, so the target's is taken where both changed it, and said."""

from __future__ import annotations

from everyshelf.core.formats.source import Node
from everyshelf.core.formats.xml import local_name
from everyshelf.core.kinds.cosmetic import Place, is_drawn_at
from everyshelf.core.merge.location import PartLocation
from everyshelf.core.merge.policy import Policy, scalars_of

_SHOWN = 3


class Made:
    """Tells what was made by a program, and keeps what was taken from the target for that reason."""

    def __init__(self, policy: Policy) -> None:
        self._policy = policy
        self._places: list[str] = []

    def takes(self, where: PartLocation, *versions: Node | None) -> bool:
        """True for a value that a program writes; it is then noted as taken from the target."""
        return self._noted(where, self._is_made(where, versions))

    def takes_group(self, where: PartLocation, *versions: Node) -> bool:
        """The same for a group that only places something: a position of two numbers, a size beside a position."""
        if where.beside is None or where.names[-1:] not in (("position",), ("size",)):
            return False
        if self._policy.table.cosmetic_type("layout") is None:
            return False
        holder = {item.name or "": item.node.value for item in where.beside.items}
        return self._noted(where, all(is_drawn_at(where.names[-1], v.value, holder) for v in versions))

    def takes_mirror(self, where: PartLocation) -> bool:
        """The same for a list that mirrors others, which one side removed."""
        return self._noted(where, self._policy.table.is_left_out(where.names[-1]))

    def add(self, inner: Made) -> None:
        """Take over what was noted in a text inside the text."""
        self._places += inner._places

    def notes(self) -> list[str]:
        """What was taken, in words."""
        count = len(self._places)
        if not count:
            return []
        more = f" and {count - _SHOWN} more" if count > _SHOWN else ""
        values = "value that a program writes differs" if count == 1 else "values that a program writes differ"
        shown = ", ".join(self._places[:_SHOWN])
        return [f"{count} {values} on both sides; the target's is kept: {shown}{more}"]

    def _is_made(self, where: PartLocation, versions: tuple[Node | None, ...]) -> bool:
        if self._policy.is_inside_made(where.names):
            return True
        name = local_name(where.field or "")
        if not name or not (self._policy.table.may_be_cosmetic(name) or self._policy.table.is_left_out(name)):
            return False
        values = tuple(v.value if v is not None else None for v in versions)
        holder = where.label if where.path else ""
        return self._policy.is_made(Place(name, values, scalars_of(where.beside), holder))

    def _noted(self, where: PartLocation, is_made: bool) -> bool:
        if is_made:
            self._places.append(f"{where.field or where.names[-1]} of {where.label or where.type}")
        return is_made

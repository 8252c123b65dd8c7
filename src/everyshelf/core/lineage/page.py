"""A lineage as one HTML page that needs nothing else: no script, no font, no picture from anywhere."""

from __future__ import annotations

from functools import cache

from jinja2 import Environment, PackageLoader, StrictUndefined, Template

from everyshelf.core.answers.lineage import LineageAnswer
from everyshelf.core.lineage.telling import chain


def as_page(lineage: LineageAnswer) -> str:
    """The page: the chain from what it was made from to where it came to, and whether it can be made again."""
    names = {one.id: name_of(one.artifact, one.version) for one in lineage.versions}
    return _template().render(lineage=lineage, chain=chain(lineage), names=names)


def name_of(artifact: str, version: int | None) -> str:
    """A version in words."""
    return f"{artifact} v{version}" if version is not None else artifact


@cache
def _template() -> Template:
    loader = PackageLoader("everyshelf.core.lineage", "templates")
    environment = Environment(
        loader=loader, autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    return environment.get_template("lineage.html")

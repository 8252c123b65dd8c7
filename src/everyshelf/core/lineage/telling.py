"""A lineage in words: a chain of sentences, from what it was made from to where it came to."""

from __future__ import annotations

from dataclasses import dataclass

from everyshelf.core.answers.lineage import Ingredient, LineageAnswer, LineageVersion, Making, Remake
from everyshelf.core.compare.sentences import count_noun


@dataclass(frozen=True)
class Told:
    """One line of the chain: a version or a step."""

    version: LineageVersion | None
    step: Making | None


def chain(lineage: LineageAnswer) -> list[Told]:
    """The lines: what it was made from, the steps, the version asked about, then what was made from it."""
    distances = [v.distance for v in lineage.versions] + [step.distance for step in lineage.steps]
    told: list[Told] = []
    for distance in range(min(distances, default=0), max(distances, default=0) + 1):
        told += [Told(one, None) for one in lineage.versions if one.distance == distance]
        told += [Told(None, one) for one in lineage.steps if one.distance == distance]
    return told


def sentence_of(artifact: str, version: int | None, steps: list[Making], asked: str) -> str:
    """How a version came about, in one sentence."""
    name = f"{artifact} v{version}" if version is not None else artifact
    makers = [step for step in steps if asked in step.writes]
    users = [step for step in steps if asked in step.reads]
    if not makers and not users:
        return f"No run, build or copy that made {name} is recorded, and none that read it."
    said = []
    if makers:
        step = makers[0]
        sources = len(step.reads) + step.more_reads
        said.append(f"{name} was made by {step.name} from {count_noun(sources, 'version')}")
    else:
        said.append(f"Nothing says what {name} was made from")
    if users:
        said.append(f"{count_noun(len(users), 'step')} read it")
    return "; ".join(said) + "."


def remake(step: Making | None, needs: list[Ingredient]) -> Remake:
    """Whether a version can be made again, from the step that made it."""
    if step is None:
        said = (
            "Nothing says how it was made: run what makes it with everyshelf run, or use everyshelf commit --made-from."
        )
        return Remake(possible=None, sentence=said, needs=[])
    if step.sort == "copy":
        return Remake(possible=True, sentence="It is a copy, and what it was copied from is there.", needs=needs)
    missing = [one for one in needs if one.there is False]
    unknown = [one for one in needs if one.there is None]
    if missing:
        said = f"It cannot be made again: {_listed(missing)} missing."
    elif unknown:
        said = f"It may be made again; {_listed(unknown)} not recorded."
    else:
        inputs = sum(one.what == "input" for one in needs)
        parts = ["command", *(["parameters"] if any(one.what == "parameters" for one in needs) else []), "code"]
        said = f"It can be made again: {', '.join(parts)} and {count_noun(inputs, 'input')} are all on this shelf."
    return Remake(possible=None if unknown and not missing else not missing, sentence=said, needs=needs)


def _listed(needs: list[Ingredient]) -> str:
    names = [f"the {one.what}" if one.what in ("command", "code") else one.name for one in needs]
    told = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
    return f"{told} {'is' if len(names) == 1 else 'are'}"

"""What an artifact is called where its whole path would be too long: by its file name, and where that repeats among
several, by as many of its folders as tell it from the others."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable
from difflib import get_close_matches

_MOST_LOOKED_AT = 20_000  # names; more would take seconds


def file_name(path: str) -> str:
    """The last part of a path."""
    return path.rpartition("/")[2]


def tail_of(path: str) -> str:
    """The parts of a path from the last to the first, each with a slash behind it: paths that end alike are neighbours
    in the order of their tails."""
    return "".join(f"{part}/" for part in reversed(path.split("/")))


def path_of_tail(tail: str) -> str:
    """The path behind ``tail_of``."""
    return "/".join(reversed(tail[:-1].split("/")))


def distinct_names(paths: Iterable[str]) -> dict[str, str]:
    """A name for each path, no two alike: ``settings.json``, or ``app/settings.json`` and ``web/settings.json``."""
    names: dict[str, str] = {}
    alike: list[tuple[int, list[str]]] = [(1, sorted(set(paths)))]
    while alike:
        depth, group = alike.pop()
        by_ending: dict[str, list[str]] = defaultdict(list)
        for path in group:
            by_ending["/".join(path.split("/")[-depth:])].append(path)
        for ending, those in by_ending.items():
            if len(those) == 1:
                names[those[0]] = ending
            else:
                alike.append((depth + 1, those))
    return names


def nearest(name: str, among: Iterable[str], most: int = 3) -> list[str]:
    """Return the names closest to ``name``, likeliest first; upper and lower case count as the same."""
    known = {one.casefold(): one for one in among}
    wanted = name.casefold()
    found = [known[one] for one in get_close_matches(wanted, known, most, 0.6)]
    begins = [one for folded, one in known.items() if wanted and folded.startswith(wanted) and one not in found]
    return [*found, *sorted(begins)][:most]


def did_you_mean(names: Iterable[str]) -> str:
    """A question for the hint of a problem, with a space behind it; empty without names."""
    named = list(names)
    return f"Did you mean {' or '.join(named)}? " if named else ""


def nearest_paths(path: str, among: Collection[str], most: int = 3) -> list[str]:
    """Return the paths closest to ``path``: those with its file name, else those with a similar one."""
    same = [one for one in among if file_name(one).casefold() == file_name(path).casefold()]
    if same:
        return sorted(same)[:most]
    by_name: dict[str, str] = {file_name(one).rpartition(".")[0] or file_name(one): one for one in among}
    alike = nearest(file_name(path).rpartition(".")[0] or path, by_name, most) if len(among) <= _MOST_LOOKED_AT else []
    return [by_name[one] for one in alike]

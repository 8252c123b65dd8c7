"""Gates: the conditions a tag meets before it goes into an environment, and what would satisfy those that hold it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo, available_timezones

from django.contrib.auth.models import User
from django.utils import timezone

from everyshelf.core.compare.sentences import count_noun
from everyshelf.core.databases import Step
from everyshelf.core.errors import InvalidError
from everyshelf.service.base.acts import one_act
from everyshelf.service.checks.actions import checks_of
from everyshelf.service.environments.models import Environment, Phase, Review
from everyshelf.service.log.actions import note
from everyshelf.service.people.models import Membership, Role
from everyshelf.service.rights import Caller, require
from everyshelf.service.shelves.actions.lineage import is_ancestor
from everyshelf.service.shelves.actions.refs import get_branch
from everyshelf.service.shelves.models import Branch, Commit, Tag

_DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
NO_GATES: dict[str, Any] = {"guarded": False, "reviews": 0, "checks": [], "quiet": [], "drift": False}


@dataclass(frozen=True)
class Gate:
    """One condition. ``message`` tells how it is met, or what would satisfy it; ``action`` is what a page offers;
    ``names`` what it is about, where somebody agrees by name."""

    id: str
    gate: str
    met: bool
    message: str
    action: str = ""
    names: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        """Its public form."""
        return {"id": self.id, "gate": self.gate, "met": self.met, "message": self.message, "action": self.action}


def gates_of(environment: Environment, tag: Tag) -> list[Gate]:
    """The gates of an environment but that of drift, in the order in which they are satisfied."""
    said = {**NO_GATES, **(environment.gates or {})}
    found = [
        _from_branch(environment, tag) if environment.fed_from else None,
        _from_guarded(environment, tag) if said["guarded"] else None,
        _earlier_first(environment, tag) if environment.earlier_first else None,
        _reviews(environment, tag, said["reviews"]) if said["reviews"] else None,
        *(_check(tag, name) for name in said["checks"]),
        _quiet(said["quiet"]) if said["quiet"] else None,
    ]
    return [gate for gate in found if gate is not None]


def drift_gate(environment: Environment, lost: list[str], *, agreed: bool) -> Gate | None:
    """Changes made there that would be lost hold every promotion, unless whoever promotes agrees to lose them; where
    the environment has the gate "no drift", that is forcing it."""
    strict = bool((environment.gates or {}).get("drift"))
    if not lost:
        return Gate("drift", "no drift", True, "nobody changed anything there") if strict else None
    if agreed and not strict:
        return None
    told = f"{count_noun(len(lost), 'change')} made in {environment.name} would be lost: {', '.join(lost[:3])}"
    return Gate("drift", "no drift", False, f"{told}; capture them in a draft first", "capture")


def loss_gate(steps: list[Step], agreed: list[str]) -> Gate | None:
    """What is there, and cannot be brought back from the shelf once it is gone, is given up by its name only."""
    lost = [step for step in steps if step.lost]
    if not lost:
        return None
    left = [step for step in lost if step.name not in agreed]
    if not left:
        return Gate("loss", "nothing lost", True, f"agreed to lose {', '.join(step.name for step in lost)}")
    told = ", ".join(f"{step.what} {step.name} {step.message}".strip() for step in left[:3])
    names = tuple(step.name for step in left)
    return Gate("loss", "nothing lost", False, f"would be gone for good: {told}; agree by name: --lose", "lose", names)


def _from_branch(environment: Environment, tag: Tag) -> Gate:
    branch = get_branch(environment.shelf, environment.fed_from)
    met = branch.head is not None and is_ancestor(environment.shelf, tag.commit, branch.head)
    said = f"{tag.name} is on {branch.name}" if met else f"{tag.name} is not on {branch.name}; merge it there first"
    return Gate("branch", f"from {branch.name}", met, said)


def _from_guarded(environment: Environment, tag: Tag) -> Gate:
    rows = Branch.objects.filter(shelf=environment.shelf, guarded=True).exclude(head=None).select_related("head")
    found = next((b for b in rows if b.head and is_ancestor(environment.shelf, tag.commit, b.head)), None)
    said = f"{tag.name} is on {found.name}, which is guarded" if found else f"{tag.name} is on no guarded branch"
    return Gate("guarded", "from a guarded branch", found is not None, said)


def earlier_environment(environment: Environment) -> Environment | None:
    """The one before it on its route, or None."""
    rows = Environment.objects.filter(
        shelf=environment.shelf_id,
        route=environment.route,
        position__lt=environment.position,
        ended=None,
        trial_of=None,
    )
    return rows.order_by("-position").first()


def _earlier_first(environment: Environment, tag: Tag) -> Gate | None:
    earlier = earlier_environment(environment)
    if earlier is None:
        return None
    ran = earlier.deployments.filter(state=Phase.RECORDED, tag=tag).order_by("-number").first()
    said = f"ran in {earlier.name} since {ran.ended:%d %b %H:%M}" if ran else f"promote it to {earlier.name} first"
    return Gate("earlier", f"{earlier.name} first", ran is not None, said, "" if ran else f"rehearse:{earlier.name}")


def _check(tag: Tag, name: str) -> Gate:
    found = next((c for c in checks_of(tag.commit) if c.name == name), None)
    if found is None:
        command = f'everyshelf check record "{name}" --at tag:{tag.name}'
        said = f"record it for commit {tag.commit.uid[:8]}: {command}"
    else:
        said = found.comment or ("passed" if found.passed else "did not pass")
        said = f"{said}, at {tag.commit.uid[:8]}"
    return Gate(f"check:{name}", f"check {name}", bool(found and found.passed), said)


# --- reviews -------------------------------------------------------------------


def review(caller: Caller, environment: Environment, tag: Tag, *, agrees: bool, comment: str) -> Review:
    """Say whether a tag's commit may go into an environment; what one said before is replaced."""
    require(caller, environment.shelf, "give a verdict")
    with one_act():
        about = f"tag:{tag.name} into {environment.name}"
        note(caller, "promotion.reviewed", about, environment.shelf, agrees=agrees)
        return Review.objects.create(
            environment=environment,
            commit=tag.commit,
            person=caller.person,
            agrees=agrees,
            comment=comment,
            given=timezone.now(),
        )


def reviews_of(environment: Environment, commit: Commit) -> list[Review]:
    """The newest word of each person about a commit going into an environment."""
    newest: dict[int, Review] = {}
    for row in environment.reviews.filter(commit=commit).select_related("person").order_by("id"):
        newest[row.person_id] = row
    return list(newest.values())


def _reviews(environment: Environment, tag: Tag, wanted: int) -> Gate:
    own = {tag.commit.author, tag.commit.recorded_by.username}
    given = reviews_of(environment, tag.commit)
    agreeing = {r.person.username for r in given if r.agrees}
    agreed = sorted(agreeing - own)
    against = sorted(r.person.username for r in given if not r.agrees)
    met = len(agreed) >= wanted and not against
    if met:
        return Gate("reviews", f"reviews, {len(agreed)} of {wanted}", True, f"{_listed(agreed)} agreed")
    could = _could_agree(environment, own | set(agreed))
    asked = f"{_listed(could[:4], 'or')} must agree" if could else "someone else with the role author must agree"
    said = f"{_listed(against)} is against; " if against else f"{_listed(agreed)} agreed; " if agreed else ""
    if agreeing & own:
        said += f"{_listed(sorted(agreeing & own))} made it and does not count; "
    return Gate("reviews", f"reviews, {len(agreed)} of {wanted}", False, said + asked, "review")


def _could_agree(environment: Environment, without: set[str]) -> list[str]:
    roles = [Role.AUTHOR, Role.KEEPER, Role.OWNER]
    rows = Membership.objects.filter(shelf=environment.shelf, role__in=roles).values_list("person", flat=True)
    names = User.objects.filter(pk__in=rows, is_active=True).values_list("username", flat=True)
    return sorted(set(names) - without)


def _listed(names: list[str], last: str = "and") -> str:
    return f"{', '.join(names[:-1])} {last} {names[-1]}" if len(names) > 1 else "".join(names)


# --- quiet hours ------------------------------------------------------------------


def checked_gates(given: dict[str, Any]) -> dict[str, Any]:
    """The gates of an environment, complete; raises ``InvalidError`` for hours that are none."""
    found = {**NO_GATES, **given}
    for hours in found["quiet"]:
        _window(hours)
    return found


def _window(hours: dict[str, Any]) -> tuple[set[int], int, int, ZoneInfo]:
    """Days (0 is Monday), and the minutes of the day from which and to which it is quiet."""
    days = hours.get("days") or list(_DAYS)
    unknown = [day for day in days if day not in _DAYS]
    if unknown:
        raise _wrong(f"{unknown[0]!r} is not a day; days are {', '.join(_DAYS)}")
    minutes = []
    for word in ("from", "to"):
        try:
            at = datetime.strptime(str(hours.get(word)), "%H:%M")
        except ValueError as error:
            raise _wrong(f"{word!r} must be a time such as 18:30, not {hours.get(word)!r}") from error
        minutes.append(at.hour * 60 + at.minute)
    zone = hours.get("zone") or "UTC"
    if zone not in available_timezones():
        raise _wrong(f"{zone!r} is not a time zone; write Europe/Oslo, or UTC")
    return {_DAYS.index(day) for day in days}, minutes[0], minutes[1], ZoneInfo(zone)


def _wrong(why: str) -> InvalidError:
    return InvalidError(f"quiet hours: {why}", code="environment.quiet", pointer="/gates/quiet")


def is_quiet(hours: dict[str, Any], at: datetime) -> bool:
    """Whether ``at`` lies in these hours. Hours past midnight belong to the day on which they begin."""
    days, start, end, zone = _window(hours)
    here = at.astimezone(zone)
    minute, yesterday = here.hour * 60 + here.minute, (here - timedelta(days=1)).weekday()
    if start < end:
        return here.weekday() in days and start <= minute < end
    return (here.weekday() in days and minute >= start) or (yesterday in days and minute < end)


def _quiet(windows: list[dict[str, Any]], now: datetime | None = None) -> Gate:
    at = now or timezone.now()
    found = next((hours for hours in windows if is_quiet(hours, at)), None)
    if found is None:
        return Gate("quiet", "not in quiet hours", True, "now is not a quiet hour")
    said = f"quiet from {found['from']} to {found['to']} ({found.get('zone') or 'UTC'}); promote after {found['to']}"
    return Gate("quiet", "not in quiet hours", False, said)

"""Shelves with as much behind them as years of work leave, written straight into the records."""

from __future__ import annotations

_MANY = """
from django.contrib.auth.models import User
from django.utils import timezone
from everyshelf.service.environments.models import Deployment, Environment
from everyshelf.service.experiments.models import Experiment, Run
from everyshelf.service.proposals.models import Proposal, Remark
from everyshelf.service.shelves.models import Branch, Commit, Shelf, Tag

shelf, owner, now = Shelf.objects.get(key=KEY), User.objects.get(username="owner"), timezone.now()
head = Commit.objects.filter(shelf=shelf).latest("pk")
place = Environment.objects.create(shelf=shelf, name="test", address=KEY, position=1, created=now)
for number in range(1, COUNT + 1):
    Branch.objects.create(shelf=shelf, name=f"night/{number:03}", head=head, created=now, created_by="owner")
    tag = Tag.objects.create(shelf=shelf, name=f"night-{number}", commit=head, created=now, created_by="owner")
    Deployment.objects.create(
        environment=place, key=f"{KEY}-{number}", number=number, tag=tag, commit=head, state="recorded", who="owner",
        begun=now, ended=now,
    )
    one = Proposal.objects.create(
        shelf=shelf, number=number, title=f"Proposal {number}", source="gone", target="main", created_by=owner,
        created=now, head=head, state="closed" if number % 2 else "merged",
    )
    Remark.objects.create(proposal=one, uid=f"{shelf.pk}-{number}", person=owner, commit=head, text="Why?", made=now)
    asked = Experiment.objects.create(
        shelf=shelf, key=f"night-{number}", question="Does it sail earlier?", branch="gone", target="main",
        created=now, created_by=owner, proposal=one, runs_made=2,
    )
    for run, error in ((1, 9), (2, 4)):
        Run.objects.create(
            experiment=asked, number=run, branch="gone", base=head, commit=head, metrics={"error": error}, state="done",
            began=now, person=owner,
        )
"""


def many_of_each(shelf: str, count: int) -> str:
    """What ``Service.run_python`` does to give a shelf with a commit so many branches, tags and deployments to an
    environment ``test``, closed proposals of which each second one was merged, and experiments of two runs each."""
    return f"KEY, COUNT = {shelf!r}, {count}\n{_MANY}"

"""Many commits on one shelf: what calls and jobs read does not grow with them. A sample of ``bench soak``."""

from __future__ import annotations

import json
import unittest

from bench.soak import Soak, settle

from tests.support.factories import ServiceCase, commit_files
from tests.support.service import Service

_COUNTED = """
import json
from django.db import models
from everyshelf.service.jobs.models import Job
from everyshelf.service.shelves import jobs
from everyshelf.service.shelves.actions import histories, listing
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.models import ArtifactVersion, Shelf
from everyshelf.service.web.job_kinds import load
from everyshelf.service.find.models import FoundVersion
from everyshelf.service.origins.models import VersionStep
load()
seen = []
original = models.Model.from_db.__func__
models.Model.from_db = classmethod(lambda cls, *given: (seen.append(cls.__name__), original(cls, *given))[1])

class Run:
    def __init__(self, job):
        self.job, self.parameters, self.shelf = job, job.parameters, job.shelf
    def progress(self, *_):
        pass
    give_way = progress

def counted(work):
    seen.clear()
    work()
    return len(seen)

found = {}
for key in ("few", "many"):
    shelf = Shelf.objects.get(key=key)
    job = Job.objects.filter(shelf=shelf, kind="describe").latest("pk")
    at = resolve(shelf, "main")
    ArtifactVersion.objects.filter(commit=at.commit).update(headline="", effect="")
    for model in (VersionStep, FoundVersion):
        model.objects.filter(version__commit=at.commit).delete()
    found[key] = {
        "describe": counted(lambda: jobs.describe(Run(job))),
        "commits": counted(lambda: histories.list_commits(shelf, at, limit=5)),
        "artifact": counted(lambda: listing.get_artifact(shelf, at, "one.json")),
    }
print(json.dumps(found))
"""


class GrowthTests(unittest.TestCase):
    def test_a_job_and_a_page_read_as_much_after_six_hundred_commits_as_after_six(self) -> None:
        service = Service()
        self.addCleanup(service.stop)
        client = service.client()
        for key, count in (("few", 6), ("many", 600)):
            shelf = client.shelf(client.make_shelf(key, key=key).key)
            commit_files(shelf, {"one.json": b'{"number": 1}\n', "two.json": b'{"number": 2}\n'}, "Both")
            service.run_python(f"from bench.filling import *; record_many({key!r}, {count}, 1)")
            commit_files(shelf, {"one.json": b'{"number": 3}\n'}, "One more")
        settle(service)
        found = json.loads(service.run_python(_COUNTED))
        self.assertEqual(found["few"], found["many"])
        self.assertGreater(found["few"]["describe"], 5)


class SampleTests(unittest.TestCase):
    def test_nothing_acknowledged_is_missing_and_every_call_is_measured(self) -> None:
        done = Soak(commits=240, by_people=40, artifacts=60, windows=2, rounds=3).run()
        self.assertEqual(done.problems, [])
        self.assertEqual((len(done.memory), len(done.against_small)), (2, 2))
        self.assertGreaterEqual(len(done.against_small[-1]), 7)


class HeadsReadTests(ServiceCase):
    """What the words of are read after a commit, where it was interrupted before as well."""

    def found(self, words: str) -> list[str]:
        return sorted(one.path for one in self.client.find(words, shelves=[self.shelf.key]).items)

    def test_what_an_earlier_job_left_is_read_by_the_next(self) -> None:
        commit_files(self.shelf, {"a.md": b"# Harbour\n\nlantern\n", "b.md": b"# Pier\n\nanchor\n"}, "Both")
        settle(self.service)
        self.assertEqual(self.found("lantern"), ["a.md"])
        self.service.run_python(
            "from everyshelf.service.find.models import *\n"
            "FoundVersion.objects.filter(version__path='a.md').delete()\n"
            "SeenHead.objects.update(read=False)"
        )
        commit_files(self.shelf, {"b.md": b"# Pier\n\nmooring\n"}, "Another word")
        settle(self.service)
        left = self.service.run_python(
            "from everyshelf.service.find.models import *\n"
            f"heads = SeenHead.objects.filter(branch__shelf__key={self.shelf.key!r})\n"
            "print(heads.filter(read=False).count(), HeadVersion.objects.filter(branch__in=heads.values('branch'),"
            " version__found=None).count())"
        )
        self.assertEqual(left.split(), ["0", "0"])
        self.assertEqual((self.found("lantern"), self.found("mooring"), self.found("anchor")), (["a.md"], ["b.md"], []))

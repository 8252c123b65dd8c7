"""Records of an earlier version are there under their new names once the service has started."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import unittest

_SCRIPT = """
import django
django.setup()
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
from django.utils import timezone

def to(*targets):
    executor = MigrationExecutor(connection)
    executor.migrate(list(targets))
    return MigrationExecutor(connection).loader.project_state(list(targets)).apps

older = [("shelves", "0003_delete_writeanswer"), ("proposals", "0001_initial"), ("environments", "0004_reason"),
         ("checks", "0001_initial")]
apps, now = to(*older), timezone.now()
make = lambda app, model, **fields: apps.get_model(app, model).objects.create(**fields)
person = make("auth", "User", username="ines")
shelf = make("shelves", "Shelf", key="s", name="S", created=now)
commit = make("shelves", "Commit", shelf=shelf, uid="c" * 64, root="r" * 64, author="ines", summary="x", time=now,
              recorded=now, recorded_by=person, generation=1)
make("shelves", "Merge", uid="m", shelf=shelf, target="main", source="try", base_root="b", other_root="o", drop=True,
     decisions={"a.json": {"/x": {"take": "this"}, "/y": {"take": "other"}, "/z": {"take": "both"}}}, created=now,
     created_by=person)
proposal = make("proposals", "Proposal", shelf=shelf, number=1, title="t", source="try", target="main", drop=True,
                why="late", head=commit, created=now, created_by=person)
for verdict in ("agree if", "not yet", "agree"):
    make("proposals", "Verdict", proposal=proposal, person=person, commit=commit, verdict=verdict, text=verdict, made=now)
tag = make("shelves", "Tag", shelf=shelf, name="one", commit=commit, created=now, created_by=person)
place = make("environments", "Environment", shelf=shelf, name="test", created=now, position=1, address="p", made_by="ines")
make("environments", "Review", environment=place, commit=commit, person=person, agrees=True, said="fine", given=now)
make("environments", "Deployment", environment=place, key="k", number=1, tag=tag, commit=commit, who="ines", begun=now,
     steps=[{"action": "created", "said": "2 columns"}], forced=[{"gate": "from main", "said": "not on main"}])
make("checks", "Check", shelf=shelf, commit=commit, name="fares", passed=True, said="31 of 31", made=now, made_by=person)
apps = to(("shelves", "0004_sides_of_a_merge"), ("proposals", "0002_conditions"),
          ("environments", "0005_comment_and_message"), ("checks", "0002_comment"))
deployment = apps.get_model("environments", "Deployment").objects.get()
print(deployment.steps, deployment.forced)
print(apps.get_model("environments", "Review").objects.get().comment, apps.get_model("checks", "Check").objects.get().comment)
merge = apps.get_model("shelves", "Merge").objects.get()
print(merge.source_root, merge.delete_source, [d["take"] for d in merge.decisions["a.json"].values()])
proposal = apps.get_model("proposals", "Proposal").objects.get()
print(proposal.delete_source, proposal.reason)
print(sorted(v.verdict for v in apps.get_model("proposals", "Verdict").objects.all()))
print([(r.text, r.condition) for r in apps.get_model("proposals", "Remark").objects.all()])
"""


class MigrationTests(unittest.TestCase):
    """From the schema before the sides of a merge, the verdicts and what is said were renamed."""

    def test_old_names(self) -> None:
        with tempfile.TemporaryDirectory() as data:
            done = subprocess.run(
                [sys.executable, "-c", _SCRIPT],
                env={**os.environ, "EVERYSHELF_DATA": data, "DJANGO_SETTINGS_MODULE": "everyshelf.service.settings"},
                capture_output=True,
                text=True,
                check=False,
            )
        self.assertEqual(done.returncode, 0, done.stderr[-2000:])
        self.assertEqual(
            done.stdout.splitlines()[-6:],
            [
                "[{'action': 'created', 'message': '2 columns'}] [{'gate': 'from main', 'message': 'not on main'}]",
                "fine 31 of 31",
                "o True ['target', 'source', 'both']",
                "True late",
                "['against', 'agree', 'agree']",
                "[('agree if', True)]",
            ],
        )


if __name__ == "__main__":
    unittest.main()

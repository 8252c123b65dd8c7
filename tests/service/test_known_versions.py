"""What listings know of versions from before: a list says the same as one that is read from the records, whatever came between."""

from __future__ import annotations

import json

from tests.support.factories import ServiceCase

_ACTS = """
import json, orjson, random
from django.db import connection
from django.test.utils import CaptureQueriesContext
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.actions import known_versions, recording, seen, short_names
from everyshelf.service.shelves.actions.branches import make_branch
from everyshelf.service.shelves.actions.committing import ChangeRequest, prepare_changes
from everyshelf.service.shelves.actions.contents import take_in_many
from everyshelf.service.shelves.actions.listing import list_artifacts
from everyshelf.service.shelves.actions.merging import merge_branch
from everyshelf.service.shelves.actions.pages import pages
from everyshelf.service.shelves.actions.recording import CommitMessage
from everyshelf.service.shelves.actions.refs import resolve
from everyshelf.service.shelves.models import ArtifactVersion, Shelf
from django.contrib.auth.models import User

short_names._MOST_GONE_THROUGH = 0  # names as in a large state
recording.start_job = lambda *_: None  # what says of versions what they did: done here instead
draw = random.Random(SEED)
shelf, caller = Shelf.objects.get(key=KEY), Caller(User.objects.get(username="owner"))
body = b"".join(len(d).to_bytes(8, "big") + d for d in [b"%d" % n for n in range(4)])
contents = [one.id for one in take_in_many(shelf, [body], len(body))]
folders = ["", "a/", "a/b/", "c/b/"]


def paths_at(ref):
    return [one["path"] for one in listed(ref)[0]]


def listed(ref):
    pages._kept.clear()
    with CaptureQueriesContext(connection) as asked:
        told = orjson.loads(orjson.dumps(list_artifacts(shelf, resolve(shelf, ref))["items"]))
    return told, len(asked)


def first_of(ref):
    pages._kept.clear()
    return orjson.loads(orjson.dumps(list_artifacts(shelf, resolve(shelf, ref), limit=3)["items"]))


def change(ref):
    there, wanted = paths_at(ref), {}
    for _ in range(draw.choice((1, 1, 2, 5))):
        path = draw.choice(folders) + f"{draw.randrange(6)}.txt"
        if there and draw.random() < 0.2:
            gone = draw.choice(there)
            wanted.setdefault(gone, ChangeRequest(gone, None))
        elif there and draw.random() < 0.2 and path not in there:
            old = draw.choice(there)
            if old not in wanted:
                held = next(one["content"] for one in listed(ref)[0] if one["path"] == old)
                wanted.setdefault(path, ChangeRequest(path, held, old))
        else:
            wanted.setdefault(path, ChangeRequest(path, draw.choice(contents)))
    at = resolve(shelf, ref)
    base = at.commit.uid if at.commit else None
    prepare_changes(caller, shelf, ref, base, list(wanted.values()), CommitMessage("Work")).record()


done = {"lists": 0, "kept": 0, "fewer": 0}
change("main")
make_branch(caller, shelf, "try", "main", "")
for number in range(40):
    try:
        if number % 9 == 8:
            merge_branch(caller, shelf, "try", "main", CommitMessage("Bring it"), "source", delete_source=False)
        else:
            change(draw.choice(("main", "main", "try")))
    except Exception as error:
        if not hasattr(error, "code"):
            raise
    if number % 3:
        ArtifactVersion.objects.filter(shelf=shelf, headline="").update(headline="changed", effect="alters")
    for ref in ("main", "try"):
        told, asked = listed(ref)
        ours = known_versions.known_versions
        seen.known_versions = short_names.known_versions = known_versions.KnownVersions()
        fresh, asked_fresh = listed(ref)
        seen.known_versions = short_names.known_versions = ours
        assert told == fresh, (number, ref, told, fresh)
        assert told[:3] == first_of(ref), (number, ref, told, "three of them")
        short_names._MOST_GONE_THROUGH = 2_000  # as in a small one
        assert told == listed(ref)[0], (number, ref, told, "names of a state gone through whole")
        assert told[:3] == first_of(ref), (number, ref, told, "three of them, the state gone through whole")
        short_names._MOST_GONE_THROUGH = 0
        done["lists"] += 1
        done["fewer"] += asked < asked_fresh
done["kept"] = len(known_versions.known_versions._versions)
print(json.dumps(done))
"""


class KnownVersionsTests(ServiceCase):
    """Commits, moves, removals and merges on two branches, with names that repeat."""

    def test_kept_or_read_a_list_says_the_same(self) -> None:
        for seed in range(2):
            shelf = self.client.make_shelf(f"Kept {seed}")
            script = f"KEY, SEED = {shelf.key!r}, {seed}\n{_ACTS}"
            done = json.loads(self.service.run_python(script))
            self.assertEqual(done["lists"], 80)
            self.assertGreater(done["kept"], 10)
            self.assertGreater(done["fewer"], 20, "what was kept saved no query")

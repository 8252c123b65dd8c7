"""A clock that was ahead and was put right: what was noted for a time far away is done now, not years later."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime, timedelta

import httpx

from everyshelf.client import Client
from everyshelf.service.backups.layout import TIME, oldest_first
from tests.service.test_git_links import LinkCase
from tests.service.test_network_folder import LOCK
from tests.support.receiver import receiver
from tests.support.service import PASSWORD
from tests.support.waiting import until

_LATER = """
import time
from datetime import timedelta
from django.utils import timezone
LATER = timezone.now() + timedelta(days=400)
"""


class ClockTests(LinkCase):
    """``later`` writes into the records what was written there while the clock was 400 days ahead."""

    def later(self, code: str) -> str:
        return self.service.run_python(_LATER + code)

    def test_nobody_is_kept_from_signing_in(self) -> None:
        self.later("""
from everyshelf.service.people import tries
now = time.time
tries.time.time = lambda: now() + 400 * 86400
for _ in range(60):
    tries.note_failure("owner", "127.0.0.1", "")
""")
        with Client(self.service.address) as client:
            self.assertTrue(client.sign_in_for_token("owner", PASSWORD, "after the clock", ["read"], 1).value)

    def test_a_lock_of_a_file_ends(self) -> None:
        folder = httpx.Client(
            base_url=f"{self.service.address}/dav/{self.shelf.key}/", auth=("owner", self.service.token()), timeout=300
        )
        self.addCleanup(folder.close)
        locked = folder.request("LOCK", "draft/main/notes.md", content=LOCK, headers={"Timeout": "Second-600"})
        self.assertEqual(locked.status_code, 201)
        self.assertEqual(folder.put("draft/main/notes.md", content=b"no").status_code, 423)
        self.later("""
from everyshelf.service.dav.models import LockEntry
for entry in LockEntry.objects.all():
    if isinstance(entry.value, dict):
        entry.value["expire"] += 400 * 86400
        entry.save()
""")
        self.assertEqual(folder.put("draft/main/notes.md", content=b"yes").status_code, 204)

    def test_what_waits_to_be_sent_is_sent(self) -> None:
        with receiver() as heard:
            self.shelf.make_webhook("builds", heard.address)
            until(lambda: len(heard.heard) == 1, "the first event")
            self.later("""
from everyshelf.service.events.models import Delivery
Delivery.objects.update(state="waiting", next_try=LATER)
""")
            until(lambda: len(heard.heard) == 2, "the same event, sent again")

    def test_a_link_looks_again(self) -> None:
        self.shelf.make_git_link("office", str(self.bare), follows=True, every_seconds=600)
        until(lambda: self.shelf.git_link("office").link.state == "in step", "the link is in step")
        self.work(self.clone(), {"there.txt": b"1\n"})
        self.later("from everyshelf.service.exchange.models import GitLink\nGitLink.objects.update(next_look=LATER)")
        until(lambda: any(row.path == "there.txt" for row in self.shelf.artifacts()), "what is new in Git")

    def test_drift_is_looked_for(self) -> None:
        self.shelf.make_tag("one")
        where = self.shelf.make_environment("test", watch_minutes=60)
        self.shelf.wait(self.shelf.promote("one", "test"))
        self.later("""
from everyshelf.service.environments.models import Environment
Environment.objects.update(drift_checked=LATER)
""")

        def looked() -> bool:
            checked = self.later(f"""
from everyshelf.service.environments.models import Environment
print(Environment.objects.get(shelf__key={self.shelf.key!r}, name={where.name!r}).drift_checked < LATER - timedelta(days=300))
""")
            return checked.strip() == "True"

        until(looked, "drift to be looked for")


class BackupOrderTests(unittest.TestCase):
    def test_a_backup_of_the_future_is_the_oldest(self) -> None:
        now = datetime.now(UTC)
        future, newest, old = ((now + timedelta(days=days)).strftime(TIME) for days in (400, 0, -3))
        self.assertEqual(oldest_first([newest, future, old]), [future, old, newest])


if __name__ == "__main__":
    unittest.main()

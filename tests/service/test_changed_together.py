"""Two people change one thing: what each of them said counts, and a change is judged by what there is when it is made.

Each test reads a record as a request of the second person does, lets the first person change it, and then goes on with
what was read. The records are locked meanwhile, so that the worker of the service cannot put it right.
"""

from __future__ import annotations

import json
import unittest
from typing import Any

from tests.support.factories import ServiceCase

_START = """
import json
from django.db import transaction
from django.contrib.auth.models import User
from everyshelf.core.errors import EveryShelfError
from everyshelf.service.rights import Caller
from everyshelf.service.shelves.models import Shelf
shelf = Shelf.objects.get(key={key!r})
owner, keeper = (Caller(User.objects.get(username=name)) for name in ("owner", "keeper"))
def refused(do):
    try:
        do()
    except EveryShelfError as error:
        return error.code
"""


class ChangedTogetherTests(ServiceCase):
    """Records that two people change."""

    def setUp(self) -> None:
        super().setUp()
        self.put({"fares.csv": b"zone,fare\nZ1,4\n"}, "First")
        self.shelf.set_member("keeper", "owner")

    def together(self, code: str) -> Any:
        """What statements with the records print as JSON, as ``found``; they are one transaction."""
        start = _START.format(key=self.shelf.key)
        body = "".join(f"    {line}\n" for line in code.strip().splitlines())
        return json.loads(self.service.run_python(f"{start}with transaction.atomic():\n{body}print(json.dumps(found))"))

    def test_a_webhook_delivers_what_it_is_asked_for_when_it_looks(self) -> None:
        self.shelf.make_webhook("builds", "http://127.0.0.1:9/", ["tag"])
        found = self.together("""
from everyshelf.service.events.actions.collecting import collect
from everyshelf.service.events.actions.webhooks import WebhookSettings, change_webhook, get_webhook
from everyshelf.service.log.actions import note
from everyshelf.service.events.models import Delivery
read_by_the_worker = get_webhook(shelf, "builds")
note(owner, "commit.made", "not asked for", shelf)
note(owner, "tag.made", "asked for", shelf)
change_webhook(owner, get_webhook(shelf, "builds"), WebhookSettings(about=["commit"]))
note(owner, "commit.made", "asked for by now", shelf)
collect(read_by_the_worker)
found = list(Delivery.objects.filter(webhook__shelf=shelf).order_by("pk").values_list("subject", flat=True))
""")
        self.assertEqual(found, ["asked for", "asked for by now"])

    def test_no_event_goes_to_an_address_that_was_taken_away(self) -> None:
        self.shelf.make_webhook("builds", "http://127.0.0.1:9/")
        found = self.together("""
from everyshelf.service.events.actions import delivering
from everyshelf.service.events.actions.collecting import collect
from everyshelf.service.events.actions.webhooks import WebhookSettings, change_webhook, get_webhook
from everyshelf.service.log.actions import note
sent = []
delivering._send = lambda webhook, delivery: (sent.append(webhook.address), (204, ""))[1]
for number in range(4):
    note(owner, "tag.made", str(number), shelf)
webhook = get_webhook(shelf, "builds")
collect(webhook)
waiting = delivering.due(webhook)
goes_on = [delivering.deliver_next(webhook.pk, waiting[0])]
change_webhook(owner, get_webhook(shelf, "builds"), WebhookSettings(address="http://127.0.0.1:9/other"))
goes_on.append(delivering.deliver_next(webhook.pk, waiting[1]))
get_webhook(shelf, "builds").delete()
goes_on.append(delivering.deliver_next(webhook.pk, waiting[2]))
found = [sent, goes_on]
""")
        self.assertEqual(found, [["http://127.0.0.1:9/", "http://127.0.0.1:9/other"], [True, True, False]])

    def test_a_webhook_and_a_link_keep_what_both_said(self) -> None:
        self.shelf.make_webhook("builds", "http://127.0.0.1:9/")
        self.shelf.make_git_link("office", "https://127.0.0.1/x.git")
        found = self.together("""
from everyshelf.service.events.actions.webhooks import WebhookSettings, change_webhook, get_webhook
from everyshelf.service.events.models import Webhook
from everyshelf.service.exchange.actions.links import LinkSettings, change_link
from everyshelf.service.exchange.models import GitLink
first, second = get_webhook(shelf, "builds"), get_webhook(shelf, "builds")
change_webhook(owner, first, WebhookSettings(about=["tag"]))
change_webhook(keeper, second, WebhookSettings(address="http://127.0.0.1:9/other"))
found = list(Webhook.objects.values_list("about", "address").get(pk=first.pk))
first, second = GitLink.objects.get(shelf=shelf), GitLink.objects.get(shelf=shelf)
change_link(owner, first, LinkSettings(user="clerk"))
change_link(keeper, second, LinkSettings(every_seconds=900))
found += GitLink.objects.values_list("user", "every_seconds").get(shelf=shelf)
third = GitLink.objects.get(shelf=shelf)
GitLink.objects.filter(shelf=shelf).delete()
found.append(refused(lambda: change_link(owner, third, LinkSettings(user="clerk"))))
""")
        self.assertEqual(found, [["tag"], "http://127.0.0.1:9/other", "clerk", 900, "act.removed"])

    def test_a_proposal_that_was_merged_stays_merged(self) -> None:
        self.shelf.make_branch("dearer")
        self.put({"fares.csv": b"zone,fare\nZ1,5\n"}, "Dearer", "dearer")
        self.shelf.open_proposal("Dearer fares", "dearer")
        found = self.together("""
from everyshelf.service.proposals.actions.merging import merge_proposal
from everyshelf.service.proposals.actions.proposals import change_proposal, close_proposal, reopen_proposal
from everyshelf.service.proposals.models import Proposal
def read():
    return Proposal.objects.get(shelf=shelf)
first, second, third = read(), read(), read()
change_proposal(owner, first, title="Dearer fares from May")
change_proposal(owner, second, description="As the board decided.")
merge_proposal(owner, second)
found = [refused(lambda: close_proposal(owner, third, "no")), refused(lambda: change_proposal(owner, first, title="x"))]
found += [read().title, read().description, read().state]
""")
        self.assertEqual(
            found, ["proposal.state", "proposal.state", "Dearer fares from May", "As the board decided.", "merged"]
        )

    def test_an_experiment_and_the_gates_keep_what_both_said(self) -> None:
        self.shelf.make_environment("test")
        found = self.together("""
from everyshelf.service.environments.actions.environments import change_environment, get_environment
from everyshelf.service.experiments.actions import abandon, begin, change
from everyshelf.service.experiments.models import Experiment
made = begin(owner, shelf, "Is it dearer?")
first, second, third = (Experiment.objects.get(pk=made.pk) for _ in range(3))
change(owner, first, question="Is it cheaper?")
change(keeper, second, primary="fare")
found = list(Experiment.objects.values_list("question", "primary").get(pk=made.pk))
abandon(owner, second, "We know.")
found.append(refused(lambda: abandon(keeper, third, "Another reason.")))
first, second = get_environment(shelf, "test"), get_environment(shelf, "test")
change_environment(owner, first, gates={"reviews": 2})
change_environment(keeper, second, gates={"guarded": True})
gates = get_environment(shelf, "test").gates
found += [gates["reviews"], gates["guarded"]]
""")
        self.assertEqual(found, ["Is it cheaper?", "fare", "experiment.state", 2, True])

    def test_a_draft_that_is_saved_while_it_is_discarded(self) -> None:
        found = self.together("""
from everyshelf.service.drafts.actions import Saving, discard, get_draft, pending_of, save
head = shelf.branches.get(name="main").head
from everyshelf.service.base.context import get_trees
held = get_trees().find(head.root, "fares.csv").id
save(owner, shelf, "main", None, [Saving("one.csv", held)])
read = get_draft(owner, shelf, "main")
save(owner, shelf, "main", None, [Saving("two.csv", held)])
discard(owner, read, ["one.csv"])
found = [point.path for point in pending_of(get_draft(owner, shelf, "main"))]
""")
        self.assertEqual(found, ["two.csv"])


if __name__ == "__main__":
    unittest.main()

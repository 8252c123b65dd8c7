"""Keep the whole address of a webhook sealed where it holds what lets someone in."""

from __future__ import annotations

from typing import Any

from django.db import migrations, models

from everyshelf.service.base.addresses import shown
from everyshelf.service.base.keys import seal


def _seal(apps: Any, _editor: Any) -> None:
    for webhook in apps.get_model("events", "Webhook").objects.all():
        if (part := shown(webhook.address)) != webhook.address:
            webhook.sealed_address, webhook.address = seal(webhook.address), part
            webhook.save(update_fields=["address", "sealed_address"])


class Migration(migrations.Migration):
    """A second form of the address."""

    dependencies = [("events", "0001_initial")]
    operations = [
        migrations.AddField("webhook", "sealed_address", models.BinaryField(null=True)),
        migrations.RunPython(_seal, migrations.RunPython.noop),
    ]

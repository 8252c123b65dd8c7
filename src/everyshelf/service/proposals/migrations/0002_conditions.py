"""Two verdicts, remarks that are conditions, and the reason of a merge under its own name."""

import uuid
from typing import Any

from django.db import migrations, models


def split_verdicts(apps: Any, _schema: Any) -> None:
    """ "agree if" becomes an agreement with a condition, "not yet" a verdict against."""
    verdicts, remarks = apps.get_model("proposals", "Verdict").objects, apps.get_model("proposals", "Remark").objects
    for verdict in verdicts.filter(verdict="agree if"):
        remarks.create(
            proposal=verdict.proposal,
            uid=uuid.uuid4().hex[:12],
            person=verdict.person,
            commit=verdict.commit,
            text=verdict.text,
            condition=True,
            made=verdict.made,
        )
    verdicts.filter(verdict="agree if").update(verdict="agree")
    verdicts.filter(verdict="not yet").update(verdict="against")


class Migration(migrations.Migration):
    dependencies = [("proposals", "0001_initial")]
    operations = [
        migrations.AddField("remark", "condition", models.BooleanField(default=False)),
        migrations.RenameField("proposal", "drop", "delete_source"),
        migrations.RenameField("proposal", "why", "reason"),
        migrations.RunPython(split_verdicts, migrations.RunPython.noop),
        migrations.RemoveConstraint("verdict", "known_verdict"),
        migrations.AddConstraint(
            "verdict",
            models.CheckConstraint(condition=models.Q(("verdict__in", ["agree", "against"])), name="known_verdict"),
        ),
    ]

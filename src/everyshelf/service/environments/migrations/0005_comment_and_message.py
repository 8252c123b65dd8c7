"""Rename the text of a review to comment, and the text of a gate or step to message, also where deployments keep it."""

from typing import Any

from django.db import migrations


def _renamed(rows: list[dict[str, Any]], old: str, new: str) -> list[dict[str, Any]]:
    return [{new if key == old else key: value for key, value in row.items()} for row in rows]


def _rename(old: str, new: str) -> Any:
    def forward(apps: Any, schema_editor: Any) -> None:
        deployments = apps.get_model("environments", "Deployment")
        for row in deployments.objects.only("steps", "forced").iterator():
            row.steps, row.forced = _renamed(row.steps, old, new), _renamed(row.forced, old, new)
            row.save(update_fields=["steps", "forced"])

    return forward


class Migration(migrations.Migration):
    dependencies = [("environments", "0004_reason")]
    operations = [
        migrations.RenameField("review", "said", "comment"),
        migrations.RunPython(_rename("said", "message"), _rename("message", "said")),
    ]

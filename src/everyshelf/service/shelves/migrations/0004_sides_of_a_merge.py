"""The sides of a merge are called target and source."""

from typing import Any

from django.db import migrations

_SIDES = {"this": "target", "other": "source"}


def rename_sides(apps: Any, _schema: Any) -> None:
    """Decisions name the side they take; kept results name both and are worked out again."""
    for merge in apps.get_model("shelves", "Merge").objects.exclude(decisions={}):
        for decisions in merge.decisions.values():
            for decision in decisions.values():
                decision["take"] = _SIDES.get(decision["take"], decision["take"])
        merge.save(update_fields=["decisions"])
    apps.get_model("shelves", "MergedContent").objects.all().delete()


class Migration(migrations.Migration):
    dependencies = [("shelves", "0003_delete_writeanswer")]
    operations = [
        migrations.RenameField("merge", "other_root", "source_root"),
        migrations.RenameField("merge", "other_commit", "source_commit"),
        migrations.RenameField("merge", "drop", "delete_source"),
        migrations.RunPython(rename_sides, migrations.RunPython.noop),
    ]

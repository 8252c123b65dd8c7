from typing import Any

from django.db import migrations, models

from everyshelf.core.history.names import tail_of


def fill(apps: Any, _schema_editor: Any) -> None:
    """Versions that were recorded before tails were."""
    versions = apps.get_model("shelves", "ArtifactVersion")
    rows = []
    for row in versions.objects.only("pk", "path").iterator():
        row.tail = tail_of(row.path)
        rows.append(row)
        if len(rows) == 500:
            versions.objects.bulk_update(rows, ["tail"])
            rows = []
    versions.objects.bulk_update(rows, ["tail"])


class Migration(migrations.Migration):
    dependencies = [("shelves", "0004_sides_of_a_merge")]

    operations = [
        migrations.AddField("artifactversion", "tail", models.CharField(default="", max_length=4001)),
        migrations.RunPython(fill, migrations.RunPython.noop),
        migrations.AddIndex(
            "artifactversion", models.Index(fields=["shelf", "tail"], name="shelves_art_shelf_i_7208a9_idx")
        ),
    ]

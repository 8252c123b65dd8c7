"""Why a deployment was made is its reason; the folder an environment takes is its subfolder."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("environments", "0003_databases_as_destinations")]
    operations = [
        migrations.RenameField("deployment", "why", "reason"),
        migrations.RenameField("environment", "holds", "subfolder"),
        migrations.RenameField("deployment", "besides", "side_effects"),
    ]

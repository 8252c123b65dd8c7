"""Why an experiment was abandoned is its reason."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("experiments", "0001_initial")]
    operations = [migrations.RenameField("experiment", "why", "reason")]

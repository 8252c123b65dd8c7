"""Origins that were kept do not count a removed field yet; they are folded again from their steps."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("origins", "0001_initial")]

    operations = [migrations.RunSQL("DELETE FROM origins_keptorigins", migrations.RunSQL.noop)]

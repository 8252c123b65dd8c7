"""Keep who made what was captured in an environment."""

from django.db import migrations, models


class Migration(migrations.Migration):
    """A text beside each save point."""

    dependencies = [("drafts", "0003_keeping_rule")]
    operations = [
        migrations.AddField("savepoint", "credit", models.CharField(max_length=300, blank=True, default=""), False),
    ]

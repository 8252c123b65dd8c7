"""What is noted with a check is its comment."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("checks", "0001_initial")]
    operations = [migrations.RenameField("check", "said", "comment")]

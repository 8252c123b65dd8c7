"""The records themselves refuse to forget: no entry is changed or removed, whatever a later version of the code tries."""

from django.db import migrations

_REFUSE = """
CREATE TRIGGER log_is_not_{name} BEFORE {verb} ON log_logentry
BEGIN SELECT RAISE(ABORT, 'the log is append-only'); END
"""
_DROP = "DROP TRIGGER log_is_not_{name}"


class Migration(migrations.Migration):
    dependencies = [("log", "0001_initial")]

    operations = [
        migrations.RunSQL(_REFUSE.format(name=name, verb=verb), _DROP.format(name=name))
        for name, verb in (("changed", "UPDATE"), ("removed", "DELETE"))
    ]

"""Tables by the names of the code."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("rollouts", "0014_plain_names")]

    operations = [
        migrations.RenameModel("LeftOut", "ExcludedDevice"),
        migrations.RenameModel("TakenOut", "ManualExclusion"),
    ]

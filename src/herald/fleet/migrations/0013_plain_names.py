"""Tables and columns by the names of the code."""

import django.db.models.deletion
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("fleet", "0012_facts_digest")]

    operations = [
        migrations.RenameField("reportedfact", "misfits", "incompatible_values"),
        migrations.RenameField("reportedfact", "misfit_count", "incompatible_count"),
        migrations.RenameModel("DeviceChange", "MembershipQueueEntry"),
        migrations.RemoveConstraint("functionrange", "function_once_per_model"),
        migrations.RemoveConstraint("functionrange", "function_known"),
        migrations.RenameModel("FunctionRange", "CapabilityRange"),
        migrations.RenameField("capabilityrange", "function", "capability"),
        migrations.AlterField(
            "capabilityrange",
            "model",
            models.ForeignKey(
                on_delete=django.db.models.deletion.CASCADE, related_name="capability_ranges", to="fleet.devicemodel"
            ),
        ),
        migrations.AddConstraint(
            "capabilityrange",
            models.UniqueConstraint(fields=["model", "capability"], name="capability_once_per_model"),
        ),
        migrations.AddConstraint(
            "capabilityrange",
            models.CheckConstraint(
                condition=models.Q(("capability__in", ["restart", "files_ahead", "notice"])), name="capability_known"
            ),
        ),
    ]

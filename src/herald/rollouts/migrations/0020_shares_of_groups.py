"""A ring of a group may take a share of it. What stood beside a group until now meant nothing: it was left from another
kind of ring, and goes."""

from typing import Any

from django.db import migrations


def forget_shares(apps: Any, schema_editor: Any) -> None:
    apps.get_model("rollouts", "Ring").objects.filter(kind="group").update(share_pct=None)
    for version in apps.get_model("rollouts", "RingPlanVersion").objects.all():
        rings = [{**ring, "share_pct": None} if ring["kind"] == "group" else ring for ring in version.rings]
        if rings != version.rings:
            version.rings = rings
            version.save(update_fields=["rings"])


class Migration(migrations.Migration):
    dependencies = [("rollouts", "0019_transfers")]
    operations = [migrations.RunPython(forget_shares, migrations.RunPython.noop)]

"""What schedules said of every day becomes a rule; then the checks hold."""

from typing import Any

from django.db import migrations


def write_rules(apps: Any, schema_editor: Any) -> None:
    """“Every day” as a rule with its last day in it; a schedule without a first day began as it was made."""
    schedules = apps.get_model("commands", "Schedule").objects
    for schedule in schedules.filter(when="daily"):
        schedule.when, schedule.rule = "repeat", "FREQ=DAILY"
        if schedule.until is not None:
            schedule.rule += f";UNTIL={schedule.until:%Y%m%d}"
        schedule.starts_on = schedule.starts_on or schedule.created_at.date()
        schedule.save()
    schedules.filter(when="now").update(starts_on=None)


class Migration(migrations.Migration):
    dependencies = [("commands", "0008_recurrence")]

    operations = [migrations.RunPython(write_rules, migrations.RunPython.noop)]

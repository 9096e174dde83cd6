"""The checks of schedules that repeat by a rule."""

from datetime import date

from django.db import migrations, models
from django.db.models import F, Q


class Migration(migrations.Migration):
    dependencies = [("commands", "0009_rules_written")]

    operations = [
        migrations.RemoveField("schedule", "until"),
        migrations.AddConstraint(
            "schedule",
            models.CheckConstraint(
                condition=Q(state__in=["proposed", "active", "paused", "ended"]), name="schedule_state_known"
            ),
        ),
        migrations.AddConstraint(
            "schedule",
            models.CheckConstraint(
                condition=Q(when="now", time_of_day__isnull=True, starts_on__isnull=True, rule="")
                | Q(when="once", time_of_day__isnull=False, starts_on__isnull=False, rule="")
                | Q(when="repeat", time_of_day__isnull=False, starts_on__isnull=False, rule__gt=""),
                name="schedule_time_fits",
            ),
        ),
        migrations.AddConstraint(
            "schedule",
            models.CheckConstraint(
                condition=Q(expires_after_minutes__gt=F("spread_minutes")) & Q(expires_after_minutes__lte=10_080),
                name="schedule_gives_up_after_spread",
            ),
        ),
        migrations.AddConstraint(
            "schedule",
            models.CheckConstraint(
                condition=Q(max_concurrent__gte=1) & (Q(at_once_per_site=None) | Q(at_once_per_site__gte=1)),
                name="schedule_cap_positive",
            ),
        ),
        migrations.AddConstraint(
            "schedule",
            models.CheckConstraint(
                condition=Q(freezes__in=["wait", "drop"]) & Q(late__in=["drop", "run"]) & Q(overlap__in=["wait", "skip"]),
                name="schedule_choices_known",
            ),
        ),
        migrations.AddConstraint(
            "schedule",
            models.CheckConstraint(
                condition=Q(starts_on=None) | Q(starts_on__range=(date(2000, 1, 1), date(2099, 12, 31))),
                name="schedule_days_plannable",
            ),
        ),
        migrations.AddIndex(
            "occurrence", models.Index(fields=["schedule", "local_time"], name="occurrence_local_time")
        ),
    ]

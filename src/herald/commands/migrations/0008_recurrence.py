"""Schedules repeat by a rule of RFC 5545, carry parameters, and say what happens to late and busy devices."""

import django.contrib.postgres.fields
import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("commands", "0007_templates"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.RemoveConstraint("schedule", "schedule_template_known"),
        migrations.RemoveConstraint("schedule", "schedule_time_where_daily"),
        migrations.RemoveConstraint("schedule", "schedule_gives_up_after_spread"),
        migrations.RemoveConstraint("schedule", "schedule_cap_positive"),
        migrations.RemoveConstraint("schedule", "schedule_freezes_known"),
        migrations.RemoveConstraint("schedule", "schedule_days_plannable"),
        migrations.RemoveConstraint("schedule", "schedule_state_known"),
        migrations.AlterField(
            "schedule",
            "template",
            models.ForeignKey(
                db_column="template",
                on_delete=django.db.models.deletion.PROTECT,
                related_name="schedules",
                to="commands.commandtemplate",
                to_field="key",
            ),
        ),
        migrations.AddField("schedule", "name", models.CharField(blank=True, default="", max_length=80), preserve_default=False),
        migrations.AddField("schedule", "reason", models.CharField(blank=True, default="", max_length=300), preserve_default=False),
        migrations.AddField("schedule", "ticket", models.CharField(blank=True, default="", max_length=200), preserve_default=False),
        migrations.AddField("schedule", "parameters", models.JSONField(default=dict)),
        migrations.AddField("schedule", "clock", models.CharField(default="device", max_length=64)),
        migrations.AddField("schedule", "rule", models.CharField(blank=True, default="", max_length=500), preserve_default=False),
        migrations.AddField(
            "schedule",
            "excluded",
            django.contrib.postgres.fields.ArrayField(
                base_field=models.CharField(max_length=16), blank=True, default=list, size=None
            ),
        ),
        migrations.AddField("schedule", "at_once_per_site", models.PositiveIntegerField(null=True)),
        migrations.AddField(
            "schedule",
            "late",
            models.CharField(
                choices=[("drop", "Misses this firing"), ("run", "Runs it when it is back")], default="drop", max_length=4
            ),
        ),
        migrations.AddField(
            "schedule",
            "overlap",
            models.CharField(
                choices=[("wait", "Runs this one after it"), ("skip", "Is left out of this one")],
                default="wait",
                max_length=4,
            ),
        ),
        migrations.AddField(
            "schedule",
            "approved_by",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="+",
                to=settings.AUTH_USER_MODEL,
            ),
        ),
        migrations.AddField("schedule", "revision", models.PositiveIntegerField(default=1)),
        migrations.AddField("schedule", "quiet_until", models.DateTimeField(null=True)),
        migrations.AddField("schedule", "quiet_zones", models.BigIntegerField(null=True)),
        migrations.AlterField(
            "schedule",
            "when",
            models.CharField(
                choices=[("now", "Now"), ("once", "Once, at a time"), ("repeat", "Again and again, by a rule")],
                max_length=10,
            ),
        ),
        migrations.AlterField(
            "schedule",
            "state",
            models.CharField(
                choices=[
                    ("proposed", "Waits for approval"),
                    ("active", "Active"),
                    ("paused", "Paused"),
                    ("ended", "Ended"),
                ],
                default="active",
                max_length=10,
            ),
        ),
        migrations.AddField(
            "occurrence",
            "template",
            models.ForeignKey(
                db_column="template",
                default="restart",
                on_delete=django.db.models.deletion.PROTECT,
                related_name="+",
                to="commands.commandtemplate",
                to_field="key",
            ),
            preserve_default=False,
        ),
        migrations.AddField("occurrence", "parameters", models.JSONField(default=dict)),
        migrations.AddField("occurrence", "local_time", models.CharField(blank=True, default="", max_length=16), preserve_default=False),
        migrations.AddField("occurrence", "overlapping", models.PositiveIntegerField(default=0)),
    ]

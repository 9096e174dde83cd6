"""Command templates are rows; the built-in ones are written after each migration, restart already here."""

from typing import Any

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models
from django.db.models import Q

ACTIONS = ("restart", "report", "logs", "health_check", "read", "clear_cache", "locate", "set_clock", "re_enrol", "named")
HARMS = ("gentle", "disruptive", "destructive")


def write_restart(apps: Any, schema_editor: Any) -> None:
    """The one command there was: schedules refer to it."""
    apps.get_model("commands", "CommandTemplate").objects.create(
        key="restart", name="Restart", action="restart", harm="disruptive", minutes=5, is_built_in=True
    )


class Migration(migrations.Migration):
    dependencies = [
        ("commands", "0006_template"),
        ("fleet", "0013_plain_names"),
        migrations.swappable_dependency(settings.AUTH_USER_MODEL),
    ]

    operations = [
        migrations.CreateModel(
            name="CommandTemplate",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("key", models.SlugField(max_length=40, unique=True)),
                ("name", models.CharField(max_length=60, unique=True)),
                ("note", models.CharField(blank=True, max_length=300)),
                ("action", models.CharField(choices=[(a, a) for a in ACTIONS], max_length=20)),
                ("action_name", models.CharField(blank=True, max_length=60)),
                ("schema", models.JSONField(default=dict)),
                ("harm", models.CharField(choices=[(h, h.capitalize()) for h in HARMS], max_length=12)),
                ("minutes", models.PositiveIntegerField()),
                ("is_built_in", models.BooleanField(default=False)),
                ("retired_at", models.DateTimeField(null=True)),
                (
                    "created_by",
                    models.ForeignKey(
                        null=True,
                        on_delete=django.db.models.deletion.PROTECT,
                        related_name="+",
                        to=settings.AUTH_USER_MODEL,
                    ),
                ),
            ],
            options={
                "constraints": [
                    models.CheckConstraint(condition=Q(action__in=list(ACTIONS)), name="template_action_known"),
                    models.CheckConstraint(condition=Q(harm__in=list(HARMS)), name="template_harm_known"),
                    models.CheckConstraint(
                        condition=Q(action="named", action_name__gt="") | ~Q(action="named") & Q(action_name=""),
                        name="template_named_where_named",
                    ),
                    models.CheckConstraint(condition=Q(minutes__range=(1, 1440)), name="template_minutes_within_a_day"),
                ]
            },
        ),
        migrations.CreateModel(
            name="TemplateModel",
            fields=[
                ("id", models.BigAutoField(auto_created=True, primary_key=True, serialize=False, verbose_name="ID")),
                ("from_version", models.CharField(blank=True, max_length=64)),
                ("from_key", models.TextField(db_collation="C", null=True)),
                ("to_version", models.CharField(blank=True, max_length=64)),
                ("to_key", models.TextField(db_collation="C", null=True)),
                (
                    "model",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE, related_name="+", to="fleet.devicemodel"
                    ),
                ),
                (
                    "template",
                    models.ForeignKey(
                        on_delete=django.db.models.deletion.CASCADE,
                        related_name="offered_by",
                        to="commands.commandtemplate",
                    ),
                ),
            ],
            options={
                "constraints": [
                    models.UniqueConstraint(fields=["template", "model"], name="template_model_once")
                ]
            },
        ),
        migrations.RunPython(write_restart, migrations.RunPython.noop),
    ]

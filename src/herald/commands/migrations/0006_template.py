"""What a command does is its template."""

from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [("commands", "0005_plain_names")]

    operations = [
        migrations.RemoveConstraint("schedule", "schedule_recipe_known"),
        migrations.RenameField("schedule", "recipe", "template"),
        migrations.AddConstraint(
            "schedule",
            models.CheckConstraint(
                condition=models.Q(("template__in", ["restart"])), name="schedule_template_known"
            ),
        ),
    ]

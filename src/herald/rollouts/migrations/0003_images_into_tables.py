from typing import Any

from django.db import migrations


def fill(apps: Any, schema_editor: Any) -> None:
    """Each rollout's one image becomes its change table."""
    rollout, row = apps.get_model("rollouts", "Rollout"), apps.get_model("rollouts", "ChangeRow")
    pairs = rollout.objects.order_by("id").values_list("id", "image_id")
    row.objects.bulk_create([row(rollout_id=r, position=1, choice="image", image_id=i) for r, i in pairs])
    for rank, pk in enumerate(rollout.objects.filter(launched_at__isnull=False).order_by("id").values_list("id", flat=True), 1):
        rollout.objects.filter(pk=pk).update(rank=rank)


class Migration(migrations.Migration):

    dependencies = [
        ('rollouts', '0002_change_tables'),
    ]

    operations = [
        migrations.RunPython(fill, migrations.RunPython.noop),
    ]

from typing import Any

from django.db import migrations
from django.db.models import F


def fill(apps: Any, schema_editor: Any) -> None:
    """Every install so far went straight to its image."""
    apps.get_model("deliveries", "Delivery").objects.filter(kind="install").update(target=F("image"))


class Migration(migrations.Migration):

    dependencies = [
        ('deliveries', '0003_steps'),
    ]

    operations = [
        migrations.RunPython(fill, migrations.RunPython.noop),
    ]

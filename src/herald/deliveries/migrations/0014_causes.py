from typing import Any

from django.db import migrations

CODES = {"keeps the file for its hours": "file-stored", "left the audience": "left-audience"}


def to_codes(apps: Any, schema_editor: Any) -> None:
    for words, code in CODES.items():
        apps.get_model("deliveries", "DeliveryEvent").objects.filter(cause=words).update(cause=code)


def to_words(apps: Any, schema_editor: Any) -> None:
    for words, code in CODES.items():
        apps.get_model("deliveries", "DeliveryEvent").objects.filter(cause=code).update(cause=words)


class Migration(migrations.Migration):
    dependencies = [("deliveries", "0013_ended_badly_index")]

    operations = [migrations.RunPython(to_codes, to_words)]

"""What a token opens, beside its name; of tokens that had no name, too."""

from collections import Counter
from typing import Any

import django.db.models.deletion
from django.conf import settings
from django.db import migrations, models


def describe_tokens(apps: Any, schema_editor: Any) -> None:
    """Each token has a row that says whose it is, under a name that its owner gave to no other."""
    details, tokens = apps.get_model("access", "ApiToken"), apps.get_model("knox", "AuthToken")
    for one in details.objects.select_related("token"):
        one.user_id = one.token.user_id
        one.save(update_fields=["user"])
    for token in tokens.objects.filter(details=None):
        details.objects.create(token=token, user_id=token.user_id, name="without a name")
    seen: Counter[tuple[int, str]] = Counter()
    for one in details.objects.order_by("id"):
        seen[one.user_id, one.name] += 1
        number = seen[one.user_id, one.name]
        if number > 1:
            one.name = f"{one.name[:70]} ({number})"
            one.save(update_fields=["name"])


class Migration(migrations.Migration):
    dependencies = [
        ("access", "0005_second_factor"),
        migrations.swappable_dependency(settings.KNOX_TOKEN_MODEL),
    ]

    operations = [
        migrations.RenameModel("TokenName", "ApiToken"),
        migrations.AlterField(
            "ApiToken",
            "token",
            models.OneToOneField(
                null=True,
                on_delete=django.db.models.deletion.SET_NULL,
                related_name="details",
                to=settings.KNOX_TOKEN_MODEL,
            ),
        ),
        migrations.AddField(
            "ApiToken",
            "user",
            models.ForeignKey(
                null=True,
                on_delete=django.db.models.deletion.PROTECT,
                related_name="api_tokens",
                to=settings.AUTH_USER_MODEL,
            ),
        ),
        migrations.AddField("ApiToken", "reads_only", models.BooleanField(default=False)),
        migrations.AddField("ApiToken", "is_limited", models.BooleanField(default=False)),
        migrations.AddField("ApiToken", "used_at", models.DateTimeField(null=True)),
        migrations.RunPython(describe_tokens, migrations.RunPython.noop),
        migrations.RunSQL("SET CONSTRAINTS ALL IMMEDIATE", migrations.RunSQL.noop),
        migrations.AlterField(
            "ApiToken",
            "user",
            models.ForeignKey(
                on_delete=django.db.models.deletion.PROTECT,
                related_name="api_tokens",
                to=settings.AUTH_USER_MODEL,
            ),
        ),
        migrations.AddConstraint(
            "ApiToken",
            models.UniqueConstraint(
                condition=models.Q(("token", None), _negated=True), fields=("user", "name"), name="token_name_once"
            ),
        ),
    ]

"""The function that ignores case exactly as the core does, and room for updates in place."""

from typing import Any

from django.db import migrations

from herald_core.text import FOLD_TABLE


def make_fold(apps: Any, schema_editor: Any) -> None:
    """herald_fold(text): the core's table, character by character. Not STRICT, so that it is inlined."""
    quote = schema_editor.quote_value
    upper, lower = "".join(map(chr, FOLD_TABLE)), "".join(map(chr, FOLD_TABLE.values()))
    schema_editor.execute(
        f"""
        CREATE OR REPLACE FUNCTION herald_fold(text) RETURNS text
        LANGUAGE sql IMMUTABLE PARALLEL SAFE AS $$
            SELECT CASE WHEN octet_length($1) = length($1) THEN lower($1 COLLATE "C")
                        ELSE translate($1, {quote(upper)}, {quote(lower)}) END
        $$
        """,
        params=None,
    )


class Migration(migrations.Migration):
    dependencies = [("fleet", "0001_initial")]
    operations = [
        migrations.RunPython(make_fold, migrations.RunPython.noop),
        migrations.RunSQL(
            "ALTER TABLE fleet_device SET (fillfactor = 75)", "ALTER TABLE fleet_device RESET (fillfactor)"
        ),
    ]

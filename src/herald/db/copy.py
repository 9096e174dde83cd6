"""Writing many rows by COPY: several times as fast as INSERT."""

import json
from collections.abc import Sequence
from operator import attrgetter
from typing import Any

from django.db import connection, transaction
from django.db.models import JSONField, Model


def copy_rows(rows: Sequence[Model]) -> None:
    """Write new rows of one model, with every column as it is on the objects; ids are the database's."""
    if not rows:
        return
    meta = rows[0]._meta
    columns = [f for f in meta.concrete_fields if not f.primary_key]
    names = [f.attname for f in columns]
    documents = [index for index, f in enumerate(columns) if isinstance(f, JSONField)]
    cells_of = attrgetter(*names)
    quoted = ", ".join(connection.ops.quote_name(str(f.column)) for f in columns)
    table = connection.ops.quote_name(meta.db_table)
    with (
        transaction.atomic(),
        connection.cursor() as cursor,
        cursor.copy(f"COPY {table} ({quoted}) FROM STDIN") as copy,
    ):
        for row in rows:
            cells = cells_of(row)
            copy.write_row(_written(cells, documents) if documents else cells)


def _written(cells: Sequence[Any], documents: Sequence[int]) -> list[Any]:
    """The cells with their documents as text."""
    written = list(cells)
    for index in documents:
        if written[index] is not None:
            written[index] = json.dumps(written[index])
    return written

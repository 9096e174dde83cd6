"""Queries that Django compiles once, for the few places where compiling takes longer than asking."""

from collections.abc import Callable, Sequence
from typing import Any

from django.db import connection
from django.db.models import QuerySet
from django.db.models.sql import Query, UpdateQuery


def update_of(rows: "QuerySet[Any]", **values: Any) -> Query:
    """The query that `rows.update(**values)` would run."""
    query: Any = rows.query.chain(UpdateQuery)
    query.add_update_values(values)
    found: Query = query
    return found


class Compiled:
    """A query whose text is made at the first use, and whose parameters are put in at each.

    `build` makes the query from the parameters, each of which must reach the database as it is: one that is computed
    with on the way cannot be put in later, and is refused. `examples` are two sets of parameters to find out by.
    """

    def __init__(self, build: Callable[..., Query], *examples: Sequence[Any]) -> None:
        self._build = build
        self._examples = examples
        self._made: tuple[str, list[Callable[[Sequence[Any]], Any]]] | None = None

    def rows(self, *given: Any) -> list[tuple[Any, ...]]:
        """Ask with these parameters."""
        with connection.cursor() as cursor:
            self._run(cursor, given)
            return list(cursor.fetchall())

    def change(self, *given: Any) -> int:
        """Write with these parameters; how many rows were changed."""
        with connection.cursor() as cursor:
            self._run(cursor, given)
            return int(cursor.rowcount)

    def _run(self, cursor: Any, given: Sequence[Any]) -> None:
        if self._made is None:
            self._made = self._make()
        text, parameters = self._made
        cursor.execute(text, [parameter(given) for parameter in parameters])

    def _make(self) -> tuple[str, list[Callable[[Sequence[Any]], Any]]]:
        (one, first), (other, second) = (self._compile(example) for example in self._examples)
        if one != other or len(first) != len(second):
            raise ValueError(f"the text of the query depends on its parameters: {one}")
        return one, [self._parameter(a, b) for a, b in zip(first, second, strict=True)]

    def _compile(self, example: Sequence[Any]) -> tuple[str, Sequence[Any]]:
        text, parameters = self._build(*example).get_compiler(connection=connection).as_sql()
        return str(text), parameters

    def _parameter(self, a: Any, b: Any) -> Callable[[Sequence[Any]], Any]:
        """How a parameter of the compiled query follows from those that are given."""
        for place, pair in enumerate(zip(*self._examples, strict=True)):
            if (a, b) == pair:
                return lambda given: given[place]
        if a != b:
            raise ValueError(f"a parameter is computed from: {a!r}, {b!r}")
        return lambda _: a

"""Background work of imports."""

from procrastinate import RetryStrategy
from procrastinate.contrib.django import app

from herald.api.errors import DomainError
from herald.clock.source import clock
from herald.imports import services


@app.task(queue="imports", retry=RetryStrategy(max_attempts=2, wait=2))
def carry_out_check(import_id: int) -> None:
    """Count what a file would do."""
    services.check(import_id, now=clock.now())


@app.task(queue="imports", retry=RetryStrategy(max_attempts=2, wait=2))
def carry_out_import(import_id: int) -> None:
    """Write an accepted file."""
    try:
        services.write(import_id, now=clock.now())
    except DomainError as error:
        services.fail(import_id, error.detail)

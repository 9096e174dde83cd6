"""Background work of edits."""

from procrastinate import RetryStrategy
from procrastinate.contrib.django import app

from herald.api.errors import DomainError
from herald.clock.source import clock
from herald.edits import services


@app.task(queue="edits", retry=RetryStrategy(max_attempts=3, wait=2))
def carry_out_edit(edit_id: int) -> None:
    """Write the devices of an edit, some thousands a transaction."""
    try:
        while services.apply_next(edit_id, now=clock.now()):
            pass
    except DomainError as error:
        services.fail_edit(edit_id, error.detail)


@app.task(queue="edits", retry=RetryStrategy(max_attempts=3, wait=2))
def carry_out_undo(edit_id: int) -> None:
    """Put back what the devices of a large edit had before."""
    try:
        services.undo_edit(edit_id, now=clock.now())
    except DomainError as error:
        services.keep_edit(edit_id, error.detail)

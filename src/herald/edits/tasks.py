"""Background work of edits."""

from procrastinate import RetryStrategy
from procrastinate.contrib.django import app

from herald.edits import services
from herald.http.errors import DomainError
from herald.time import clock


@app.task(queue="edits", retry=RetryStrategy(max_attempts=3, wait=2))
def run_edit(edit_id: int) -> None:
    """Write the devices of an edit, some thousands a transaction."""
    try:
        while services.apply_next(edit_id, now=clock.now()):
            pass
    except DomainError as error:
        services.mark_failed(edit_id, error.detail)


@app.task(queue="edits", retry=RetryStrategy(max_attempts=3, wait=2))
def carry_out_undo(edit_id: int) -> None:
    """Restore what the devices of a large edit had before."""
    try:
        services.undo_edit(edit_id, now=clock.now())
    except DomainError as error:
        services.mark_undo_refused(edit_id, error.detail)

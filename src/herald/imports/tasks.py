"""Background work of imports."""

from collections.abc import Callable
from datetime import datetime

import structlog
from django.db.utils import InterfaceError, OperationalError
from procrastinate import RetryStrategy
from procrastinate.contrib.django import app

from herald.attention.quarantine import first_line
from herald.http.errors import DomainError
from herald.http.outbound import LOCK
from herald.imports import repeating, services
from herald.time import clock

log = structlog.get_logger()


@app.task(queue="imports", retry=RetryStrategy(max_attempts=5, exponential_wait=2))
def carry_out_check(import_id: int) -> None:
    """Count what a file would do."""
    _ending(services.check, import_id)


@app.task(queue="imports", retry=RetryStrategy(max_attempts=5, exponential_wait=2))
def carry_out_import(import_id: int) -> None:
    """Write an accepted file."""
    _ending(services.write, import_id)


@app.periodic(cron="* * * * *")
@app.task(queue="lists", lock=LOCK, queueing_lock="repeat_imports")
def repeat_imports(timestamp: int) -> None:
    """Read the files that are imported again and again, and decide of those that are checked by now."""
    now = clock.now()
    repeating.judge_checked(now=now)
    repeating.read_due(now=now)


def _ending(work: Callable[..., None], import_id: int) -> None:
    """Do the work on an import, and let it end with the reason where it fails. What the database is to blame for is
    tried again."""
    now: datetime = clock.now()
    try:
        work(import_id, now=now)
    except DomainError as error:
        services.fail(import_id, error.detail)
    except (OperationalError, InterfaceError):
        raise
    except Exception as error:
        log.exception("import_failed", import_id=import_id)
        services.fail(import_id, f"The system failed at it: {first_line(error)}")

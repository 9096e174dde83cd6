"""A fleet of 100,000 devices in the bench's own database; made once."""

from datetime import UTC, datetime

from django.db import connection, transaction

from herald.demo import load as demo
from herald.demo.fleet import make_devices
from herald.fleet.models import Device
from herald.images.signing import ensure_key

DEVICES = 100_000


def ensure_world(count: int = DEVICES) -> None:
    """Make the fleet unless it is there, with its tables tidy, as the database's own vacuum leaves them in time."""
    if Device.objects.count() != count:
        _make_world(count)
    with connection.cursor() as cursor:
        cursor.execute("VACUUM ANALYZE")


@transaction.atomic
def _make_world(count: int) -> None:
    now = datetime.now(UTC)
    ensure_key(now=now)
    if not demo.is_loaded():
        demo.load_ground(now, images_at=now)
    Device.objects.all().delete()
    rows, _ = make_devices(count, now)
    Device.objects.bulk_create(rows, batch_size=5000)

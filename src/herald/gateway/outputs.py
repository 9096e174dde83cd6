"""What a command gave, sent in pieces: each a call of its own, by the device whose order it is."""

from django.db import close_old_connections

from herald.commands.outputs import Progress, append
from herald.deliveries.models import Delivery
from herald.gateway.messages import ProtocolError, delivery_and_attempt
from herald.time import clock


def take_piece(order: str, offset: str, piece: bytes, secret_hash: str) -> Progress:
    """Keep the piece that comes next of what an order gave.

    Raises:
        ProtocolError: the order is not this device's, or is over; or the offset is none.
    """
    close_old_connections()
    if not (offset.isascii() and offset.isdigit() and len(offset) <= 10):
        raise ProtocolError(422, "bad-offset", "Upload-Offset: a whole number from 0 is expected.")
    try:
        about, attempt = delivery_and_attempt(order)
    except ValueError:
        raise ProtocolError(422, "bad-order-id", "That is no order id that this server gave.") from None
    delivery = (
        Delivery.objects.in_hand()
        .filter(pk=about, attempt=attempt, kind="command", device__secret_hash=secret_hash)
        .select_related("occurrence__template")
        .first()
    )
    if delivery is None:
        raise ProtocolError(404, "no-such-order", "This order is not in this device's hands.")
    return append(delivery, int(offset), piece, now=clock.now())

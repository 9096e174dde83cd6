"""What is around commands that may keep them waiting."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from herald.attention.models import Part, Quarantine
from herald.calendar.services import freeze_spans
from herald.commands.models import ScheduleState
from herald.deliveries.models import Delivery
from herald.deliveries.waiting import Described, describes_waits
from herald_core.actions import Harm
from herald_core.deliveries import Kind, Phase
from herald_core.waiting import Caps, Sending, WaitingDevice, WaitingOrder

#: freezes are looked for so far ahead
AHEAD = timedelta(days=1)


@describes_waits(Kind.COMMAND)
def describe_commands(deliveries: Sequence[Delivery], now: datetime) -> Described:
    """What is around open commands, of any schedules, by their id."""
    schedules = {d.occurrence.schedule_id: d.occurrence.schedule for d in deliveries if d.occurrence}
    quarantined = Quarantine.objects.causes_of(Part.SCHEDULE, schedules)
    in_hand = {pk: Delivery.objects.of_schedule(pk).in_hand().count() for pk in schedules}
    busy = set(Delivery.objects.busy_devices([d.device_id for d in deliveries if d.phase == Phase.WAITING]))
    freezes = freeze_spans([d.device_id for d in deliveries if d.phase == Phase.WAITING], now, now + AHEAD)
    found = {}
    for delivery in deliveries:
        if delivery.occurrence is None:
            continue  # whoever asks does not see the schedule that sends it
        schedule, device = delivery.occurrence.schedule, delivery.device
        template = delivery.occurrence.template
        sending = Sending.PAUSED if schedule.state == ScheduleState.PAUSED else Sending.RUNNING
        found[delivery.pk] = (
            WaitingOrder(
                kind=Kind.COMMAND,
                phase=Phase(delivery.phase),
                phase_since=delivery.phase_since,
                not_before=delivery.not_before,
                not_after=delivery.not_after,
                sending=Sending.QUARANTINED if schedule.pk in quarantined else sending,
                needs=timedelta(minutes=template.minutes),
                begins=delivery.occurrence.fires_at,
                hold_reason=delivery.hold_reason,
                after_failure=delivery.attempt > 1,
            ),
            WaitingDevice(
                zone=device.time_zone,
                admitted=device.admission == "admitted",
                next_call=device.next_call,
                busy=delivery.device_id in busy,
                freezes=() if template.harm == Harm.GENTLE else freezes.get(delivery.device_id, ()),
            ),
            Caps(left=schedule.max_concurrent - in_hand[schedule.pk], limit=schedule.max_concurrent),
        )
    return found

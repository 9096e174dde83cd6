"""What devices show after their order has ended: a failed one that runs the version after all, a confirmed one that
is lost again."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from django.db.models import (
    Case,
    Count,
    DateTimeField,
    DurationField,
    Exists,
    ExpressionWrapper,
    F,
    OuterRef,
    Q,
    QuerySet,
    Subquery,
    Value,
    When,
)
from django.db.models.functions import Greatest
from django.db.models.lookups import LessThan

from herald.attention.models import Part
from herald.attention.quarantine import Isolation
from herald.clock.heartbeat import whole_since
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.fleet.presence import EXPECTED_WITHIN
from herald.rollouts.models import Ring, Rollout
from herald_core.deliveries import Phase

#: a confirmed device that misses so many expected check-ins is lost
MISSED_CHECK_INS = 3
#: one that restarts so often before its ring's gate is met is lost, too
RESTARTS = 3
_boots_of_device = Device.objects.filter(pk=OuterRef("device_id")).values("boots")
#: where as large a share of a site's other devices fell silent too, its uplink is to blame and not the image
SITE_SILENT_SHARE = 0.5


def reconcile(*, now: datetime) -> None:
    """Look at what devices show after their order has ended; for all rollouts, and safe to repeat."""
    isolation = Isolation(now)
    late = Delivery.objects.confirmed_after_all(now)
    isolation.run_batch(
        Part.DELIVERY,
        late.first_ids(deliveries.BATCH_SIZE),
        lambda ids: deliveries.confirm_late(late.filter(id__any=list(ids)), now=now),
    )
    whole = whole_since(datetime.now(UTC))
    shut = Rollout.objects.with_shut_gates().values_list("pk", flat=True)
    if whole is not None:
        isolation.run_batch(Part.ROLLOUT, shut, lambda ids: _find_lost(ids, whole, now))
    isolation.finish()


def _find_lost(rollout_ids: Sequence[int], whole_since: datetime, now: datetime) -> None:
    """Count confirmed devices as lost, or well again, while the gate of their ring is not met.

    A device that ran the version before the launch was not changed by the rollout, so nothing it does is held
    against it.
    """
    rings = Ring.objects.filter(rollout__in=list(rollout_ids), opened_at__isnull=False, gate_met_at=None)
    confirmed = Delivery.objects.filter(
        ring__in=rings, phase=Phase.CONFIRMED.value, is_current_step=True, offered_at__isnull=False
    )
    confirmed.filter(boots_before=None).update(boots_before=Subquery(_boots_of_device))
    silent = confirmed.filter(_fell_silent(whole_since, now, "device__"))
    lost = {
        "fault": confirmed.filter(device__healthy=False),
        "other-version": confirmed.filter(device__last_check_in__gt=F("phase_since")).exclude(
            device__firmware_key=F("image__version_key")
        ),
        "restarts": confirmed.filter(device__boots__gte=F("boots_before") + RESTARTS),
        "silent": silent.exclude(device__site__in=_silent_sites(silent, whole_since, now)),
    }
    reasons = Case(
        *(When(pk__in=rows.values("pk"), then=Value(reason)) for reason, rows in lost.items()), default=Value("")
    )
    found = confirmed.annotate(reason=reasons).exclude(reason=F("lost")).values_list("id", "reason")
    by_reason: dict[str, list[int]] = {}
    for pk, reason in found:
        by_reason.setdefault(reason, []).append(pk)
    for reason, ids in by_reason.items():
        deliveries.mark_lost(Delivery.objects.filter(id__any=ids), reason=reason, now=now)


def _fell_silent(whole_since: datetime, now: datetime, path: str = "") -> Q:
    """True of a device that misses check-ins, counted from when the server could hear it."""
    missed = ExpressionWrapper(
        F(f"{path}check_in_interval_seconds") * Value(timedelta(seconds=MISSED_CHECK_INS), DurationField()),
        DurationField(),
    )
    since = ExpressionWrapper(Value(now, DateTimeField()) - missed, DateTimeField())
    last = Greatest(f"{path}last_check_in", Value(whole_since, DateTimeField()))
    return Q(LessThan(last, since))


def _silent_sites(silent: "QuerySet[Delivery]", whole_since: datetime, now: datetime) -> list[int]:
    """Sites of silent devices whose other devices, which were not changed, fell silent too."""
    sites = list(silent.exclude(device__site=None).order_by().values_list("device__site_id", flat=True).distinct())
    if not sites:
        return []
    changed = Delivery.objects.filter(
        device_id=OuterRef("pk"),
        phase=Phase.CONFIRMED.value,
        is_current_step=True,
        ring__gate_met_at=None,
        offered_at__isnull=False,
    )
    others = Device.objects.filter(site__in=sites, admission="admitted", last_check_in__gt=now - EXPECTED_WITHIN)
    counted = (
        others.exclude(Exists(changed))
        .order_by()
        .values_list("site_id")
        .annotate(n=Count("id"), quiet=Count("id", filter=_fell_silent(whole_since, now)))
    )
    return [site for site, n, quiet in counted if quiet >= n * SITE_SILENT_SHARE]

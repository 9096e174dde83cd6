"""Every query about deliveries."""

from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from datetime import datetime, timedelta
from itertools import combinations
from typing import TYPE_CHECKING, Any, Self

from django.contrib.postgres.aggregates import ArrayAgg
from django.db import models
from django.db.models import (
    BooleanField,
    Case,
    Count,
    DateTimeField,
    DurationField,
    Exists,
    ExpressionWrapper,
    F,
    Max,
    Min,
    OuterRef,
    Q,
    Value,
    When,
)
from django.db.models.functions import Coalesce, Greatest

from herald.deliveries.breakdown_fields import PLACES
from herald.deliveries.command_querysets import CommandQuerySet
from herald.fleet.presence import heard_in_time, not_heard_for_long
from herald_core.deliveries import (
    ACTIVE,
    FETCHES,
    MUTE_FACTOR,
    PATIENCE_CHECK_INS,
    PATIENCE_FLOOR,
    RECALLABLE,
    TIMEOUT_FACTOR,
    Cause,
    Kind,
    Phase,
)

if TYPE_CHECKING:
    from herald.deliveries.models import Delivery

#: what ended otherwise is looked after for so long once its rollout has ended
LOOKED_AFTER = timedelta(days=14)


def _times(field: str, unit: timedelta) -> Any:
    return ExpressionWrapper(F(field) * Value(unit, DurationField()), DurationField())


#: `herald_core.deliveries.patience`, for the database
PATIENCE = Greatest(
    Value(PATIENCE_FLOOR, DurationField()),
    _times("image__expected_minutes", timedelta(minutes=TIMEOUT_FACTOR)),
    _times("device__check_in_interval_seconds", timedelta(seconds=PATIENCE_CHECK_INS)),
    output_field=DurationField(),
)
_DOCUMENTS_OF_DEVICE = tuple(f"device__{n}" for n in ("attributes", "facts", "facts_since", "version_keys", "tags"))


class DeliveryQuerySet(CommandQuerySet):
    def of_rollout(self, rollout_id: int) -> Self:
        """One for each device of the rollout: the step that it is at."""
        return self.filter(rollout_id=rollout_id, is_current_step=True)

    def first_steps(self, rollout_id: int) -> Self:
        """The first step of each device of the rollout: `from_version` is what it had before."""
        return self.filter(rollout_id=rollout_id, hop=1)

    def open_in_others(self, rollout_id: int | None) -> Self:
        """Open installs of other rollouts that have not ended: what is coming to their devices anyway."""
        return self.open().filter(kind="install", is_current_step=True).exclude(rollout=rollout_id).order_by()

    def withdrawn_because(self, cause: Cause) -> Self:
        """Those withdrawn for that cause."""
        from herald.deliveries.models import DeliveryEvent

        why = DeliveryEvent.objects.filter(
            delivery=OuterRef("pk"), to_phase=Phase.WITHDRAWN.value, at=OuterRef("phase_since"), cause=cause
        )
        return self.filter(Exists(why), phase=Phase.WITHDRAWN.value)

    def older_than_in(self, other: "models.QuerySet[Delivery]") -> Self:
        """Those whose target is older than what `other` has for the same device."""
        newer = other.filter(device_id=OuterRef("device_id"), target__version_key__gt=OuterRef("target__version_key"))
        return self.filter(Exists(newer))

    def with_steps_to_come(self) -> Self:
        """Steps that are done, of devices that have others to come."""
        return self.filter(is_current_step=False).order_by("id")

    def all_busy(self) -> set[int]:
        """All devices that have an active order."""
        return set(self.in_hand().order_by().values_list("device_id", flat=True))

    def last_errors(self, rollout_id: int) -> list[tuple[str, int]]:
        """With which word devices of a rollout failed for good, and how many with each, the commonest first."""
        failed = self.of_rollout(rollout_id).filter(phase=Phase.FAILED.value).order_by()
        return list(failed.values_list("last_error").annotate(n=Count("id")).order_by("-n", "last_error"))

    def busy_devices(self, device_ids: Collection[int]) -> list[int]:
        """Those of the devices that have an active order."""
        return list(self.in_hand().filter(device_id__any=device_ids).values_list("device_id", flat=True))

    def orders_of(self, device_ids: Collection[int]) -> Self:
        """The orders in the hands of these devices, locked, with their image."""
        return (
            self.in_hand()
            .filter(device_id__any=device_ids)
            .select_related("image", "rollout", "occurrence__schedule", "occurrence__template")
            .select_for_update(of=("self",))
            .order_by("id")
        )

    def downgrade_permits(self, rollout_ids: Collection[int]) -> dict[tuple[int, int], str]:
        """Leave to go down to an image in a rollout, by the ids of both."""
        rollouts: Any = self.model.rollout.field.related_model
        permits = rollouts.downgrade_permits.rel.related_model.objects
        rows = permits.filter(rollout__in=list(rollout_ids)).values_list("rollout_id", "image_id", "jws")
        return {(rollout, image): jws for rollout, image, jws in rows}

    def counts_by_ring(self, rollout_ids: Collection[int]) -> list[tuple[int, int, str, int]]:
        """Rollout, ring, phase and how many, for all rings of these rollouts."""
        rows = self.filter(rollout_id__in=list(rollout_ids), is_current_step=True).order_by()
        return list(rows.values_list("rollout_id", "ring_id", "phase").annotate(n=Count("*")))

    def counts_by_cell(self, rollout_ids: Collection[int], fields: Sequence[str], narrowed: Q) -> list[tuple[Any, ...]]:
        """Ring, phase, whether they wait for a file, site, the fields, and how many devices, of some rollouts."""
        rows = self.filter(narrowed, rollout__in=list(rollout_ids), is_current_step=True).order_by()
        wants_file = ExpressionWrapper(Q(phase=Phase.WAITING.value, file_stored_at=None), BooleanField())
        told = rows.annotate(wants_file=wants_file)
        return list(
            told.values_list("ring_id", "phase", "wants_file", "device__site_id", *fields).annotate(n=Count("*"))
        )

    def counts_by_image(self, rollout_ids: Collection[int]) -> list[tuple[int, int, str, int, bool, int]]:
        """Rollout, ring, phase, image, whether expedited, and how many, for all rings of these rollouts."""
        rows = self.filter(rollout_id__in=list(rollout_ids), is_current_step=True).order_by()
        fields = ("rollout_id", "ring_id", "phase", "image_id", "expedited")
        return list(rows.values_list(*fields).annotate(n=Count("*")))  # "id" is not in the index

    def begun_of(self, rollout_ids: Collection[int], schedule_ids: Collection[int]) -> int:
        """How many devices have begun an order of these rollouts and schedules, and will finish it."""
        mine = Q(rollout_id__any=list(rollout_ids)) | Q(occurrence__schedule_id__any=list(schedule_ids))
        return self.filter(mine).in_hand().exclude(phase=Phase.OFFERED.value).count()

    def waiting_of(self, rollout_ids: Collection[int]) -> int:
        """How many devices wait in these rollouts."""
        return self.filter(rollout_id__any=list(rollout_ids), is_current_step=True).waiting().count()

    def in_hand_of_rollout(self, rollout_id: int) -> int:
        return self.of_rollout(rollout_id).in_hand().count()

    def in_hand_by_rollout(self, rollout_ids: Collection[int]) -> dict[int, int]:
        """How many devices of each rollout have it as their active order."""
        rows = self.filter(rollout__in=list(rollout_ids), is_current_step=True).in_hand().order_by()
        return dict(rows.values_list("rollout_id").annotate(n=Count("id")))

    def open_of_devices(self, device_ids: Collection[int]) -> "models.QuerySet[Any, Any]":
        """Device, rollout, its rank, whether it is the current step, and phase of the open orders of some devices."""
        rows = self.open().filter(device_id__any=list(device_ids)).order_by()
        return rows.values_list("device_id", "rollout_id", "rollout__rank", "is_current_step", "phase")

    def unheard_by_ring(self, rollout_ids: Collection[int], now: datetime) -> dict[int, int]:
        """How many of a ring's devices with an active order are not heard from; rings without any are left out."""
        rows = self.filter(rollout__in=list(rollout_ids), is_current_step=True).in_hand()
        late = rows.exclude(heard_in_time(now, "device__")).order_by()
        return dict(late.values_list("ring_id").annotate(n=Count("id")))

    def one_waiting_of_each_zone(self, ring_ids: Collection[int]) -> Self:
        """Of each ring and time zone the waiting delivery that may begin first.

        The ids are found first: in one statement with all that a row shows, it takes thirty times as long.
        """
        first = (
            self.filter(ring__in=list(ring_ids), is_current_step=True)
            .waiting()
            .order_by("ring_id", "device__time_zone", "not_before", "spread_position")
            .distinct("ring_id", "device__time_zone")
        )
        return self.filter(id__any=list(first.values_list("id", flat=True))).listed().order_by("id")

    def free_to_offer(self, now: datetime, busy: Collection[int]) -> Self:
        """Those that may be offered now as far as the device and its order go, in the order in which they are.
        `busy` devices have an active order."""
        return self._free(now, busy).filter(not_before__lte=now)

    def free_to_fetch(self, now: datetime, busy: Collection[int]) -> Self:
        """Those whose file may be fetched ahead: also before the day on which the rollout begins."""
        due = Q(not_before__lte=now) | Q(not_before=F("rollout__starts_at"))
        return self._free(now, busy).filter(due, file_stored_at__isnull=True)

    def _free(self, now: datetime, busy: Collection[int]) -> Self:
        """Waiting, not expired, of an admitted device that is not busy. Of those that are on time
        those that keep the file already come first, then the one to check in next, so that few slots are held by
        devices that sleep; late ones come last."""
        due_in = ExpressionWrapper(
            F("device__last_check_in")
            + F("device__check_in_interval_seconds") * Value(timedelta(seconds=1), DurationField()),
            DateTimeField(),
        )
        return (
            self.waiting()
            .filter(not_after__gt=now, device__admission="admitted", hold_reason="")
            .exclude(device_id__any=list(busy))
            .alias(
                overdue=Case(When(heard_in_time(now, "device__"), then=0), default=1),
                to_fetch=Case(When(file_stored_at__isnull=True, then=1), default=0),
            )
            .order_by("overdue", "to_fetch", due_in.asc(nulls_last=True), "id")
        )

    def wanted_twice(self) -> list[tuple[int, int, int]]:
        """Pairs of rollouts, the one of the lower id first, and how many devices have open installs of both."""
        rollouts = self.open().filter(kind="install", is_current_step=True).order_by().values("device_id")
        several = rollouts.annotate(wanted_by=ArrayAgg("rollout_id", distinct=True)).filter(wanted_by__len__gt=1)
        pairs: Counter[tuple[int, int]] = Counter()
        for wanted in several.values_list("wanted_by", flat=True):
            pairs.update(combinations(sorted(wanted), 2))
        return [(a, b, n) for (a, b), n in pairs.most_common()]

    def open_by_rollout(self, device_ids: Collection[int]) -> "models.QuerySet[Any, Any]":
        """Rollouts, and how many of these devices have an open install of each."""
        rows = self.open().filter(kind="install", is_current_step=True, device__in=list(device_ids)).order_by()
        found: models.QuerySet[Any, Any] = rows.values_list("rollout_id").annotate(n=Count("id"))
        return found

    def left_by_zone(self, rollout_id: int) -> list[tuple[str, int]]:
        """Time zones, and how many of their devices are not through."""
        rows = self.of_rollout(rollout_id).open().order_by()
        return list(rows.values_list("device__time_zone").annotate(n=Count("id")))

    def shared_with(self, rollout_ids: Collection[int], devices: "models.QuerySet[Any]") -> list[tuple[int, str, int]]:
        """Rollouts, time zones, and how many of these devices have an open install of the rollout."""
        rows = self.open().filter(rollout__in=list(rollout_ids), is_current_step=True, device__in=devices).order_by()
        return list(rows.values_list("rollout_id", "device__time_zone").annotate(n=Count("id")))

    def left_by_site(self, rollout_id: int) -> list[tuple[int, str, int]]:
        """Sites, the clock of their devices, and how many of those are not through."""
        rows = self.of_rollout(rollout_id).open().filter(device__site__isnull=False).order_by()
        return list(rows.values_list("device__site_id", "device__time_zone").annotate(n=Count("id")))

    def in_several(self, rollout_ids: Collection[int]) -> list[int]:
        """Devices that are in more than one of these rollouts, whatever became of them there."""
        rows = (
            self.filter(rollout__in=list(rollout_ids), is_current_step=True)
            .order_by()
            .values_list("device_id", flat=True)
        )
        return list(rows.annotate(n=Count("id")).filter(n__gt=1))

    def best_ranks(self, device_ids: Collection[int]) -> dict[int, int]:
        """Of the devices those that several open rollouts want, and the best (lowest) rank among these."""
        rows = self.open().filter(kind="install", is_current_step=True, device_id__any=list(device_ids)).order_by()
        ranked = rows.values_list("device_id").annotate(n=Count("id"), best=Min("rollout__rank")).filter(n__gt=1)
        return {device: best for device, _, best in ranked}

    def newest_id(self) -> int:
        """The highest id that was given; it changes when deliveries are written."""
        return self.aggregate(newest=Max("id"))["newest"] or 0

    def images_to_come(self, rollout_id: int) -> set[int]:
        """The images that open deliveries of the rollout have, or get later."""
        rows = self.of_rollout(rollout_id).open().order_by().values_list("image_id", "remaining_image_ids").distinct()
        return {i for image, ahead in rows for i in (image, *ahead)}

    def waiting_minutes(self) -> list[int]:
        """The lengths of the installs that wait, in minutes."""
        rows = self.waiting().order_by().values_list("image__expected_minutes", flat=True)
        return sorted(rows.distinct())

    def transfers_by_site(self) -> "models.QuerySet[Any, Any]":
        """Sites, and how many of their devices have a file coming or on offer."""
        rows = self.filter(phase__in=[p.value for p in FETCHES], kind="install", device__site__isnull=False)
        found: models.QuerySet[Any, Any] = rows.order_by().values_list("device__site_id").annotate(n=Count("id"))
        return found

    def files_to_come_by_site(self, site: int | None = None) -> "models.QuerySet[Any, Any]":
        """Sites, all or one, and how many of their devices wait for an install whose file they do not have."""
        where = Q(device__site__isnull=False) if site is None else Q(device__site=site)
        rows = self.waiting().filter(where, kind="install", file_stored_at=None)
        found: models.QuerySet[Any, Any] = rows.order_by().values_list("device__site_id").annotate(n=Count("id"))
        return found

    def in_hand_by_site(self, rollout_ids: Collection[int]) -> "models.QuerySet[Any, Any]":
        """Rollout, site and how many of its devices there have it as their active order."""
        rows = (
            self.filter(rollout__in=list(rollout_ids), is_current_step=True)
            .in_hand()
            .filter(device__site__isnull=False)
        )
        sites = rows.order_by().values_list("rollout_id", "device__site_id")
        found: models.QuerySet[Any, Any] = sites.annotate(n=Count("id"))
        return found

    def with_file(self, rollout_id: int) -> int:
        """How many devices of the rollout wait with the file fetched ahead."""
        return self.of_rollout(rollout_id).waiting().filter(file_stored_at__isnull=False).count()

    def offered_since(self, rollout_ids: Collection[int], moment: datetime) -> dict[int, int]:
        """How many steps of each rollout were last offered after a moment, not counting files fetched ahead."""
        rows = self.filter(rollout__in=list(rollout_ids), offered_at__gt=moment).order_by()
        return dict(rows.values_list("rollout_id").annotate(n=Count("id")))

    def overdue(self, now: datetime) -> Self:
        """Open ones whose time ran out while the server could still take them back."""
        return self.filter(phase__in=[p.value for p in RECALLABLE], not_after__lte=now)

    def first_ids(self, most: int) -> list[int]:
        """The lowest ids, in order."""
        return list(self.order_by("id").values_list("id", flat=True)[:most])

    def not_heard_of(self, kind: Kind, now: datetime, whole_since: datetime) -> dict[str, Self]:
        """What devices began and do not go on with, by the cause for which their attempt ends.

        Patience counts from the last word about the order, and from `whole_since`, before which the server itself was
        away. A command has all the time of its order. Until the time of its order is over, a device that fetches is
        waited for, unless it is silent; one that installs is waited for while it is heard of, though not for ever.
        """

        def later(*moments: Any) -> Greatest:
            return Greatest(*moments, Value(whole_since, DateTimeField()), output_field=DateTimeField())

        no_word = ExpressionWrapper(Value(now, DateTimeField()) - F("patience"), DateTimeField())
        begun = self.filter(kind=kind.value).alias(
            patience=PATIENCE,
            word=later("phase_since", "heard_at"),
            call=later("phase_since", "heard_at", "device__last_check_in"),
        )
        if kind is Kind.COMMAND:
            phases = [p.value for p in ACTIVE if p is not Phase.OFFERED]
            overdue = begun.filter(phase__in=phases, word__lt=no_word, not_after__lt=now)
            return {"no-answer": overdue.filter(call__lt=no_word), "no-progress": overdue.filter(call__gte=no_word)}
        fetching = begun.filter(phase__in=[p.value for p in (Phase.ACCEPTED, Phase.FETCHING, Phase.STAGED)]).alias(
            deadline=later("phase_since", "heard_at", Coalesce("offer_until", "not_after"))
        )
        installing = begun.filter(phase=Phase.INSTALLING.value)
        silent = not_heard_for_long(now, "device__") & Q(word__lt=no_word)
        return {
            "not-fetched": fetching.filter(Q(deadline__lt=no_word) | silent),
            "no-answer": begun.filter(phase__in=[Phase.INSTALLING.value, Phase.CONFIRMING.value], call__lt=no_word),
            "no-progress": installing.filter(
                call__gte=no_word,
                word__lt=ExpressionWrapper(
                    Value(now, DateTimeField()) - F("patience") * Value(MUTE_FACTOR), DateTimeField()
                ),
            ),
        }

    def confirmed_after_all(self, now: datetime) -> Self:
        """Installs of open rollouts, or of those launched lately, that failed or expired, whose device has reported
        the last version and good health since."""
        ended = [Phase.FAILED.value, Phase.EXPIRED.value]
        recent = Q(rollout__ended_at=None) | Q(rollout__ended_at__gt=now - LOOKED_AFTER)
        return self.filter(
            recent,
            phase__in=ended,
            kind="install",
            is_current_step=True,
            hop=F("hops"),
            device__healthy=True,
            device__firmware_key=F("image__version_key"),
            device__last_check_in__gt=F("phase_since"),
        )

    def lost_by_ring(self, rollout_ids: Collection[int]) -> dict[int, int]:
        """Rings, and how many of their confirmed devices were lost since; rings without any are left out."""
        rows = self.exclude(lost="").filter(rollout__in=list(rollout_ids), is_current_step=True).order_by()
        return dict(rows.values_list("ring_id").annotate(n=Count("id")))

    def lapsed_offers(self, now: datetime) -> Self:
        """Offered, but the device did not begin in time."""
        return self.filter(phase=Phase.OFFERED.value, offer_until__lte=now)

    def listed(self) -> Self:
        """With what a row shows; the documents of its device, which no row shows, are left where they are."""
        related = (
            "device__model", "device__site", "ring", "image", "rollout", "occurrence__schedule", "occurrence__template",
        )  # fmt: skip
        return self.select_related(*related).defer(*_DOCUMENTS_OF_DEVICE)

    def page(self, most: int) -> list["Delivery"]:
        """The first ones by their ids, with what a row shows and their rollout.

        The ids are found first: to join all rows of a rollout and then sort them takes ten times as long. What many
        rows share (ring, image, model, site) is read once instead of with each row.
        """
        ids = list(self.order_by("id").values_list("id", flat=True)[:most])
        rows = self.model.objects.filter(id__any=ids).select_related("device").defer(*_DOCUMENTS_OF_DEVICE)
        shared = (
            "rollout",
            "ring",
            "image",
            "device__model",
            "device__site",
            "occurrence__schedule",
            "occurrence__template",
        )
        return list(rows.prefetch_related(*shared).order_by("id"))

    def failed_first(self, limit: int, cursor: int | None) -> tuple[list["Delivery"], int | None]:
        """A page with those that failed before all others, each part by its ids; and the cursor of the next page.

        A cursor is the last id twice, plus one while it stands among the failed ones.
        """
        after, among_failed = (0, True) if cursor is None else (cursor >> 1, cursor & 1 == 1)
        failed = Phase.FAILED.value
        rows = self.filter(phase=failed, id__gt=after).page(limit + 1) if among_failed else []
        if len(rows) <= limit:
            rows += self.exclude(phase=failed).filter(id__gt=0 if among_failed else after).page(limit + 1 - len(rows))
        last = rows[limit - 1] if len(rows) > limit else None
        return rows[:limit], (last.pk << 1) + (last.phase == failed) if last else None

    def about_device(self, device_id: int) -> Self:
        return self.filter(device_id=device_id).listed().order_by("-id")

    def ended_since(self, rollout_ids: Collection[int], moment: datetime) -> dict[str, int]:
        """How many devices of these rollouts confirmed their last step, and failed for good, since a moment."""
        ends = [Phase.CONFIRMED.value, Phase.FAILED.value]
        # what ran its version before was offered nothing
        rows = self.filter(
            rollout_id__any=list(rollout_ids), is_current_step=True, phase__in=ends, offered_at__isnull=False
        )
        return dict(rows.filter(phase_since__gte=moment).order_by().values_list("phase").annotate(n=Count("id")))

    def first_and_last(self, rollout_id: int) -> "models.QuerySet[Any, Any]":
        """For each ring of a rollout, when the first and the last of its devices was confirmed by an install."""
        done = self.of_rollout(rollout_id).filter(phase=Phase.CONFIRMED.value, events__isnull=False).order_by()
        rings = done.values_list("ring_id")
        found: models.QuerySet[Any, Any] = rings.annotate(Min("phase_since"), Max("phase_since"))
        return found

    def by_field(self, rollout_id: int, field: str) -> list[tuple[Any, str, int]]:
        """For each value of a field: phase and how many, for all devices of the rollout."""
        rows = self.of_rollout(rollout_id).order_by().values_list(PLACES[field], "phase")
        return list(rows.annotate(n=Count("id")))

    def with_filters(
        self, *, ring: int | None, phases: Collection[str], error: str, words: str, places: Mapping[str, str]
    ) -> Self:
        """Those in a ring, in some phases, with an error word, of devices whose name holds the words, and with these
        values of the fields in `PLACES`; an empty value is none."""
        query = self
        for field, value in places.items():
            none = Q(**{PLACES[field]: ""}) | Q(**{f"{PLACES[field]}__isnull": True})
            query = query.filter(Q(**{PLACES[field]: value}) if value else none)
        if ring is not None:
            query = query.filter(ring_id=ring)
        if phases:
            query = query.filter(phase__in=list(phases))
        if error:
            query = query.filter(last_error=error)
        if words:
            query = query.filter(Q(device__name__icontains=words) | Q(device__uid__icontains=words))
        return query

    def errors_with_counts(self, rollout_id: int) -> list[tuple[str, int]]:
        rows = self.of_rollout(rollout_id).exclude(last_error="").order_by()
        return list(rows.values_list("last_error").annotate(n=Count("id")).order_by("-n"))

    def held_with_counts(self, rollout_id: int) -> list[tuple[str, int]]:
        """Why devices that wait are held back, and how many for each reason."""
        rows = self.of_rollout(rollout_id).waiting().exclude(hold_reason="").order_by()
        return list(rows.values_list("hold_reason").annotate(n=Count("id")).order_by("-n"))

    def failed_by_image(self) -> "models.QuerySet[Any, Any]":
        """Images, and on how many devices each failed for good."""
        rows = self.filter(phase=Phase.FAILED.value, image__isnull=False).order_by()
        images = rows.values_list("image_id")
        found: models.QuerySet[Any, Any] = images.annotate(n=Count("device_id", distinct=True))
        return found

    def ends_by_image(self, image_ids: Collection[int], *, without: int) -> list[tuple[int, int, int, int]]:
        """Rollout, image, failed and confirmed devices, of installs of these images that were carried out."""
        ended = [Phase.FAILED.value, Phase.CONFIRMED.value]
        rows = self.filter(image__in=list(image_ids), phase__in=ended, offered_at__isnull=False).exclude(
            rollout=without
        )
        counted = rows.order_by().values_list("rollout_id", "image_id")
        return list(
            counted.annotate(
                failed=Count("id", filter=Q(phase=Phase.FAILED.value)),
                confirmed=Count("id", filter=Q(phase=Phase.CONFIRMED.value)),
            )
        )

    def versions_before(self, since: datetime) -> "models.QuerySet[Any, Any]":
        """Models and the versions that their devices had before rollouts launched since then."""
        rows = self.filter(kind="install", created_at__gte=since).exclude(from_version="").order_by()
        return rows.values_list("device__model_id", "from_version").distinct()

    def mid_install(self, rollout_id: int) -> int:
        """Devices beyond recall."""
        from herald_core.deliveries import NOT_CANCELLABLE

        return self.of_rollout(rollout_id).filter(phase__in=[p.value for p in NOT_CANCELLABLE]).count()


class DeliveryEventQuerySet(models.QuerySet["DeliveryEvent"]):
    def of_device(self, device_id: int) -> Self:
        return (
            self.filter(delivery__device_id=device_id)
            .select_related("delivery__image", "delivery__occurrence__template", "delivery__rollout")
            .order_by("-id")
        )

    def confirmed_times(self, rollout_id: int) -> "models.QuerySet[Any, Any]":
        """When each device of the rollout was confirmed, in order."""
        return (
            self.filter(delivery__rollout_id=rollout_id, delivery__is_current_step=True, to_phase=Phase.CONFIRMED.value)
            .order_by("at")
            .values_list("at", flat=True)
        )

    def of_phases(self, rollout_id: int, phases: Collection[str]) -> "models.QuerySet[Any, Any]":
        """Delivery, attempt, phase and time of the changes of a rollout to these phases, the latest first."""
        changes = self.filter(delivery__rollout_id=rollout_id, to_phase__in=list(phases))
        rows = changes.exclude(from_phase=F("to_phase")).order_by("-id")
        return rows.values_list("delivery_id", "attempt", "to_phase", "at")

    def failures(self, rollout_id: int) -> Any:
        """The causes for which attempts of a rollout ended, and how many for each, the most frequent first."""
        begun = [p.value for p in ACTIVE if p is not Phase.OFFERED]  # an offer that is taken back is no failure
        again = Q(to_phase=Phase.WAITING.value, from_phase__in=begun) & ~Q(cause=Cause.FILE_STORED)
        ended = self.filter(again | Q(to_phase=Phase.FAILED.value), delivery__rollout_id=rollout_id)
        return ended.order_by().values_list("cause").annotate(n=Count("id")).order_by("-n", "cause")

    def of_rollout(self, rollout_id: int) -> Self:
        return self.filter(delivery__rollout_id=rollout_id).select_related("delivery__device").order_by("-id")

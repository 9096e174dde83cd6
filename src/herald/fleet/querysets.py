"""Every query about devices."""

from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, Any, Self

from django.db import models
from django.db.models import BooleanField, Count, ExpressionWrapper, F, Func, Max, Min, Q, Value

from herald.db.expressions import JsonMember, JsonType
from herald.fleet.presence import (
    EXPECTED_WITHIN,
    ON_TIME_INTERVALS,
    SiteCalls,
    heard_in_time,
    not_heard_for_long,
    silence_counts,
)
from herald_core.timing.clocks import is_zone

if TYPE_CHECKING:
    from herald.fleet.models import DeviceModel


class DeviceQuerySet(models.QuerySet["Device"]):
    def with_names(self) -> Self:
        """With what a list of devices shows, in one query."""
        return self.select_related("model", "site", "custodian")

    def by_ids(self, ids: Collection[int]) -> Self:
        return self.filter(id__any=ids)

    def watched_live(self, now: datetime, asked_for: timedelta) -> Self:
        """Those that are live, or were asked so long ago at most to be."""
        return self.filter(Q(live_until__gt=now) | Q(live_asked_at__gt=now - asked_for))

    def locked_by_secrets(self, hashes: list[str]) -> Self:
        """The devices of these secrets, locked in the order of their ids until the transaction ends."""
        rows = self.filter(secret_hash__any=hashes).order_by("id")
        return rows.select_for_update(no_key=True, of=("self",))

    def called_any_of(self, words: Sequence[str]) -> Self:
        """Devices whose name or uid is one of the words."""
        return self.filter(Q(name__any=words) | Q(uid__any=words))

    def search(self, words: str) -> Self:
        """Devices of which each word is part of the name, uid, serial, model or site."""
        query = self
        for word in words.split()[:8]:
            query = query.filter(
                Q(name__icontains=word)
                | Q(uid__icontains=word)
                | Q(serial__icontains=word)
                | Q(model__name__icontains=word)
                | Q(site__name__icontains=word)
            )
        return query

    def page_after(self, name: str | None) -> Self:
        """In the order of names, from just after `name`."""
        query = self.order_by("name")
        return query.filter(name__gt=name) if name else query

    def with_any_tag(self, slugs: Sequence[str]) -> Self:
        return self.filter(tags__overlap=list(slugs))

    def with_attribute(self, key: str) -> Self:
        """Devices that have a value of an attribute."""
        return self.filter(attributes__has_key=key)

    def attribute_counts(self, keys: Collection[str]) -> dict[str, int]:
        """How many devices have a value of each attribute; the fleet is read once."""
        return self.aggregate(**{key: Count("id", filter=Q(attributes__has_key=key)) for key in keys}) if keys else {}

    def tag_counts(self) -> dict[str, int]:
        """How many devices carry each tag."""
        rows = self.order_by().annotate(tag=Func("tags", function="unnest", output_field=models.TextField()))
        return dict(rows.values_list("tag").annotate(n=Count("id")))

    def heard_since(self, moment: datetime) -> Self:
        return self.filter(last_check_in__gte=moment)

    def late(self, now: datetime) -> Self:
        """Those that are not heard from in time."""
        return self.exclude(heard_in_time(now))

    def quiet_sites(self, now: datetime, *, reachable_since: datetime, at_least: int, below: float) -> list[SiteCalls]:
        """Sites with so many devices that call regularly, of which less than a share is heard from in time. Nothing is
        held against a device that could not call before `reachable_since`, and need not have called since."""
        called = self.filter(admission="admitted", last_check_in__gt=now - EXPECTED_WITHIN, site__isnull=False)
        patience = (now - reachable_since).total_seconds() / ON_TIME_INTERVALS
        heard = heard_in_time(now) | Q(check_in_interval_seconds__gte=patience)
        rows = called.order_by().values_list("site_id", "site__name")
        rows = rows.annotate(expected=Count("id"), heard=Count("id", filter=heard), latest=Max("last_check_in"))
        few = rows.filter(expected__gte=at_least, heard__lt=F("expected") * below)
        return [SiteCalls(*row) for row in few]

    def trouble_counts(self, now: datetime, *, battery_below: int, but: Q | None = None) -> dict[str, Any]:
        """How many admitted devices are silent or were never seen, `but` for those whose silence something explains;
        how many have little battery left, or report no firmware; how many devices wait for admission, and what tells a
        silent fleet: one pass over all of them."""
        unexplained = ~but if but is not None else Q()
        admitted = Q(admission="admitted")
        battery = JsonMember(F("facts"), Value("battery"))
        found: dict[str, Any] = self.alias(kind=JsonType(battery)).aggregate(
            silent=Count("id", filter=admitted & not_heard_for_long(now) & unexplained),
            low_battery=Count("id", filter=admitted & Q(kind="number", facts__battery__lt=battery_below)),
            no_firmware=Count("id", filter=admitted & Q(firmware__isnull=True)),
            waiting=Count("id", filter=Q(admission="waiting")),
            **silence_counts(now),
        )
        return found

    def zones(self) -> list[str]:
        """The time zones in which devices are, those that are known."""
        return [z for z in self._distinct_zones() if is_zone(z)]

    def _distinct_zones(self) -> list[str]:
        # one step along the index for each: to look at every device, as DISTINCT does, takes a hundred times as long
        found: list[str] = []
        after = self.order_by("time_zone").values_list("time_zone", flat=True)
        while (zone := after.filter(time_zone__gt=found[-1] if found else "").first()) is not None:
            found.append(zone)
        return found

    def in_unknown_zones(self) -> int:
        """How many devices have a time zone that is no name this machine knows: their hours cannot be told."""
        every = self._distinct_zones()
        known = [z for z in every if is_zone(z)]
        return 0 if known == every else self.exclude(time_zone__in=known).count()

    def standing(self, model_id: int) -> Any:
        """Hardware revision, version key, version and how many, of the admitted devices of a model that report one."""
        rows = self.filter(model=model_id, admission="admitted", firmware_key__isnull=False).order_by()
        return rows.values_list("hardware_revision", "firmware_key").annotate(version=Min("firmware"), n=Count("id"))

    def forecast_rows(self, ids: Collection[int], now: datetime) -> Any:
        """Zone, seconds between calls, whether they are silent, and site, of devices by their ids."""
        silent = ExpressionWrapper(not_heard_for_long(now), BooleanField())
        rows = self.by_ids(ids).annotate(is_silent=silent)
        return rows.values_list("id", "time_zone", "check_in_interval_seconds", "is_silent", "site_id")

    def standing_of_all(self) -> dict[tuple[int, str, str | None], int]:
        """How many devices, retired ones aside, have each model, hardware revision and version key."""
        rows = self.exclude(admission="retired").order_by()
        counted = rows.values_list("model_id", "hardware_revision", "firmware_key").annotate(n=Count("id"))
        return {(model, revision, key): n for model, revision, key, n in counted}

    def value_counts(self, path: str, most: int) -> list[tuple[Any, int]]:
        """The commonest values of a column and how many devices have each."""
        rows = self.order_by().values_list(path).annotate(n=Count("id")).order_by("-n", path)
        return list(rows[:most])


#: collects marks instead of writing them, while somebody evaluates the devices at once
_captured: ContextVar[set[int] | None] = ContextVar("captured_device_changes", default=None)


class DeviceChangeQuerySet(models.QuerySet["MembershipQueueEntry"]):
    def first_marks(self, most: int, *, without: Collection[int] = ()) -> dict[int, list[int]]:
        """The oldest marks by their device; `without` names devices to pass over."""
        marks: dict[int, list[int]] = {}
        rows = self.exclude(device_id__any=list(without)) if without else self
        for mark, device in rows.order_by("id").values_list("id", "device_id")[:most]:
            marks.setdefault(device, []).append(mark)
        return marks

    def remove(self, marks: Collection[int]) -> None:
        self.filter(id__any=list(marks)).delete()

    def note(self, device_ids: Iterable[int], now: datetime) -> None:
        """Mark devices whose groups must be looked at again."""
        marked = _captured.get()
        if marked is not None:
            marked.update(device_ids)
        else:
            self.bulk_create([self.model(device_id=i, at=now) for i in device_ids])

    @contextmanager
    def captured(self) -> Iterator[set[int]]:
        """Give the devices that are marked meanwhile to the caller, who evaluates them in the same transaction."""
        marked: set[int] = set()
        token = _captured.set(marked)
        try:
            yield marked
        finally:
            _captured.reset(token)


class DeviceModelQuerySet(models.QuerySet["DeviceModel"]):
    def called(self, name: str) -> "DeviceModel | None":
        """The model of this name, or the one that had it."""
        return (
            self.filter(Q(name=name) | Q(former_names__contains=[name]))
            .order_by(models.Case(models.When(name=name, then=0), default=1), "id")
            .first()
        )


class EnrolmentAttemptQuerySet(models.QuerySet["EnrolmentAttempt"]):
    def newest(self, most: int) -> Self:
        return self.order_by("-last_at", "-id")[:most]

    def note(self, uid: str, cause: str, now: datetime, **about: str) -> None:
        """Count a refusal; of the same one, what is said of the device is brought up to date."""
        if not self.filter(uid=uid, cause=cause).update(tries=F("tries") + 1, last_at=now, **about):
            row = self.model(uid=uid, cause=cause, first_at=now, last_at=now, **about)
            self.bulk_create([row], ignore_conflicts=True)

    def keep_newest(self, most: int) -> None:
        """Forget all but the newest: anybody can make them."""
        last = self.order_by("-last_at", "-id").values_list("last_at", flat=True)[most : most + 1].first()
        if last is not None:
            self.filter(last_at__lte=last).delete()


class PropertyQuerySet(models.QuerySet["PropertyDefinition"]):
    def types(self) -> dict[str, tuple[str, str]]:
        """The source and type of every property, by key."""
        return {key: (source, kind) for key, source, kind in self.order_by("key").values_list("key", "source", "type")}

    def attributes(self) -> Self:
        return self.filter(source="attribute").order_by("key")

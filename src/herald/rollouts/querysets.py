"""Every query about rollouts and their rings."""

from collections.abc import Collection
from datetime import datetime
from typing import TYPE_CHECKING, Self

import msgspec
from django.db import connection, models
from django.db.models import Exists, OuterRef, Q

from herald.db.expressions import containing
from herald.deliveries.models import Delivery
from herald.groups.audience import with_audience_words, with_named

if TYPE_CHECKING:
    from herald.rollouts.models import Stage


#: whom a row names
_PEOPLE = ("created_by", "launched_by", "overridden_by", "override_approved_by")


class RolloutQuerySet(models.QuerySet["Rollout"]):
    def listed(self) -> Self:
        """Newest first, with what the list shows."""
        return with_named(
            self.select_related(*_PEOPLE, "plan_version__plan", "forecast")
            .prefetch_related(
                "rings__group", "rings__approved_by", "include", "exclude", "changes__image", "changes__model"
            )
            .order_by("-id")
        )

    def planned(self) -> Self:
        """Newest first, with what a calendar shows."""
        read = self.select_related("forecast").prefetch_related("rings", "changes__image").order_by("-id")
        # the transfers are read sooner by `transfers_of`, and the others are the engine's
        shown = read.defer("forecast__transfers", "audience_checked_at", "looked_at", "halted_at")
        return with_audience_words(shown)

    def in_stage(self, stage: "Stage | None") -> Self:
        """Drafts, those that are open, or those that have ended; all, where no stage is asked for."""
        match stage:
            case None:
                return self
            case "draft":
                return self.filter(launched_at=None)
            case "open":
                return self.filter(launched_at__isnull=False, ended_at=None)
        return self.filter(launched_at__isnull=False, ended_at__isnull=False)

    def with_words(self, words: str) -> Self:
        """Those in which each word is found: as the id, or in a version, a group, the reason, what people wrote of
        it, or a person's name."""
        return containing(
            self,
            words,
            (
                "reason",
                "name",
                "purpose",
                "ticket",
                "created_by__name",
                "include__name",
                "changes__image__version",
                "changes__image__family",
            ),
        )

    def moving(self) -> Self:
        """Those that the clock looks after: running, or held with devices still at it; the highest rank first."""
        held = ["running", "paused", "halted", "stopped"]
        return self.filter(state__in=held, ended_at__isnull=True).order_by("rank", "id")

    def open_since(self, moment: datetime) -> Self:
        """Those that were launched, and had not ended at a moment."""
        return self.filter(launched_at__isnull=False).exclude(ended_at__lt=moment)

    def with_steps(self) -> Self:
        """Those that ended and of whose deliveries all steps are there, the first that ended first."""
        return self.filter(ended_at__isnull=False, kept_steps=None).order_by("ended_at", "id")

    def with_shut_gates(self) -> Self:
        """Rollouts, not ended, with a ring that is open and whose gate is not."""
        rings = self.model.rings.rel.related_model.objects.filter(
            rollout_id=OuterRef("pk"), opened_at__isnull=False, gate_met_at=None
        )
        return self.filter(Exists(rings), ended_at__isnull=True, launched_at__isnull=False).order_by("id")

    def of_image(self, image_id: int) -> Self:
        """Rollouts, not ended, that name the image or have it for some device."""
        sends = Exists(
            Delivery.objects.open().filter(
                Q(image=image_id) | Q(target=image_id) | Q(remaining_image_ids__contains=[image_id]),
                rollout_id=OuterRef("pk"),
            )
        )
        named = Exists(self.model.changes.rel.related_model.objects.filter(rollout_id=OuterRef("pk"), image=image_id))
        return self.filter(sends | named, ended_at__isnull=True).order_by("id")

    def narrowed(self) -> Self:
        """Those not ended that are only for the devices that a rule matches."""
        return self.filter(ended_at__isnull=True).exclude(rule_filter="").order_by("id")

    def using_group(self, group_id: int) -> Self:
        """Rollouts, not ended, that name the group."""
        named = Q(include=group_id) | Q(exclude=group_id) | Q(rings__group=group_id)
        return self.filter(named, ended_at__isnull=True).distinct().order_by("id")


#: a moment, and of sites by id how many files come at once in each hour from it on
Transfers = tuple[datetime, dict[int, list[float]]]
_TRANSFERS = msgspec.json.Decoder(list[Transfers])


class StoredForecastQuerySet(models.QuerySet["StoredForecast"]):
    def transfers_of(self, rollout_ids: Collection[int]) -> list[Transfers]:
        """What the uplinks of sites have to carry by the forecasts of some rollouts."""
        with connection.cursor() as cursor:  # a hundred thousand numbers are read ten times sooner as one text
            cursor.execute(
                "SELECT json_agg(json_build_array(to_json(at), transfers))::text FROM rollouts_storedforecast"
                " WHERE rollout_id = ANY(%s)",
                [list(rollout_ids)],
            )
            [text] = cursor.fetchone()
        return _TRANSFERS.decode(text) if text else []

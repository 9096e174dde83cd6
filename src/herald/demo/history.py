"""What happened at Larkfield before the demo begins, and what is under way as it does.

All of it is done by the services that the interface uses, at times that are past, and lived through by the fleet
(`herald.demo.replay`): nothing of it is written into tables.
"""

from collections.abc import Sequence
from datetime import datetime, time, timedelta

from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import CommandTemplate, When
from herald.commands.templates import Offer, TemplateDraft, save_template
from herald.demo.replay import Replay
from herald.demo.scenario import CHECK_AT, RESTART_AT, SEED
from herald.fleet.models import DeviceModel
from herald.groups.models import Group
from herald.images.models import Image
from herald.images.services import withdraw
from herald.people.models import User
from herald.rollouts.compose import drafts
from herald.rollouts.compose.ring_plans import save_ring_plan
from herald.rollouts.intervene.lifecycle import stop
from herald.rollouts.intervene.rollback import roll_back
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout, RolloutState
from herald_core.actions import Action, Harm
from herald_core.rings.assignment import RingKind

#: how long before the demo begins its fleet is set up, and the first rollout launched
BEGAN, FIRST_LAUNCH = timedelta(weeks=8), timedelta(days=23)


class History:
    """Eight weeks of work of two people, up to the moment at which the demo begins."""

    def __init__(self, replay: Replay, *, engineer: User, approver: User, begins: datetime) -> None:
        self._replay = replay
        self._engineer = engineer
        self._approver = approver
        self._begins = begins

    def live(self) -> None:
        """One rollout that went through, one that was stopped and rolled back, one that halted itself, some days of two
        daily commands, one draft, and one that is launched as the demo begins."""
        self._plans()
        self._freeze()
        self._went_through()
        self._rolled_back()
        self._halted()
        self._restart_daily()
        self._check_health()
        self._until(timedelta(0))
        self._replay.settle()
        self._draft()
        self._running()

    @property
    def _now(self) -> datetime:
        return self._replay.now

    def _until(self, before: timedelta) -> None:
        self._replay.run_until(self._begins - before)

    def _plans(self) -> None:
        careful: list[dict[str, object]] = [
            {"name": "Pilot", "kind": "group", "group_id": _group("Field-day pilot").pk, "soak_minutes": 180},
            {"name": "Canary", "kind": "share", "share_pct": 5, "soak_minutes": 720, "needs_approval": True},
            {"name": "Early", "kind": "share", "share_pct": 25, "soak_minutes": 720},
            {"name": "Everyone left", "kind": "rest", "soak_minutes": 0},
        ]
        quick: list[dict[str, object]] = [
            {"name": "First few", "kind": "number", "number": 12, "soak_minutes": 60},
            {"name": "Everyone left", "kind": "rest", "soak_minutes": 0},
        ]
        save_ring_plan("Quick fix", [_whole(r) for r in quick], actor=self._engineer, now=self._now)
        save_ring_plan("Careful", [_whole(r) for r in careful[1:]], actor=self._engineer, now=self._now)
        self._until(timedelta(weeks=5))
        save_ring_plan("Careful", [_whole(r) for r in careful], actor=self._engineer, now=self._now)

    def _freeze(self) -> None:
        self._until(timedelta(days=30))
        starts = (self._begins + timedelta(days=9)).replace(hour=3, minute=0, second=0, microsecond=0)
        save_freeze(
            FreezeDraft(
                name="Harvest at Oxbow Flats",
                why="Pumps and gateways run day and night",
                starts_at=starts,
                ends_at=starts + timedelta(days=12),
                groups=[_group("Oxbow Flats")],
            ),
            actor=self._engineer,
            now=self._now,
        )

    def _went_through(self) -> None:
        """Vane 1.13.0 reaches the masts of all estates but Oxbow Flats, in four rings and some nights."""
        self._until(FIRST_LAUNCH)
        rings = _rings(_first_few(8), _group("Thistle Bank"), soak=720)
        self._launch("Vane", "1.13.0", "Weather masts", rings, apart=("Oxbow Flats",))

    def _rolled_back(self) -> None:
        """Sill 5.2.0 loses the radio's calibration, which nobody sees until the third day: what has it gets its old
        version back, and the image is withdrawn."""
        self._until(timedelta(days=12))
        sill = self._launch("Sill", "5.2.0", "Field gateways", _rings(_first_few(12), _group("Amber Fold"), soak=720))
        self._until(timedelta(days=12) - timedelta(hours=54))
        stop(sill, actor=self._engineer, now=self._now)
        image = _image("Sill", "5.2.0")
        withdraw(image, "loses the radio calibration", actor=self._approver, now=self._now)
        back = roll_back(sill, actor=self._engineer, now=self._now)
        self._until(timedelta(days=12) - timedelta(hours=54, minutes=20))
        self._carry_out(back)

    def _halted(self) -> None:
        """Drum 3.0.4 has a flash driver that fails: the first few are enough for the rollout to halt itself."""
        self._until(timedelta(days=5, hours=3))
        rings = _rings(_first_few(8), _group("Thistle Bank"), soak=720)
        self._launch("Drum", "3.0.4", "Pump drives", rings, at_night=False)

    def _restart_daily(self) -> None:
        self._until(timedelta(days=4))
        create_schedule(
            ScheduleDraft(
                template=CommandTemplate.objects.get(key="restart"),
                include=[_group("Greenhouse controllers")],
                exclude=[_group("Bench and spares")],
                when=When.REPEAT,
                rule="FREQ=DAILY",
                time_of_day=RESTART_AT,
                spread_minutes=20,
                expires_after_minutes=120,
            ),
            actor=self._engineer,
            now=self._now,
        )

    def _check_health(self) -> None:
        """Three nights of a health check of the pump drives, and a command of a manufacturer's own, kept for use."""
        self._until(timedelta(days=3))
        create_schedule(
            ScheduleDraft(
                name="Nightly check of the pumps",
                template=CommandTemplate.objects.get(key="health-check"),
                include=[_group("Pump drives")],
                exclude=[_group("Bench and spares")],
                when=When.REPEAT,
                rule="FREQ=DAILY",
                time_of_day=CHECK_AT,
                spread_minutes=30,
                expires_after_minutes=240,
            ),
            actor=self._engineer,
            now=self._now,
        )
        save_template(
            TemplateDraft(
                name="Exercise the valve",
                note="Opens and shuts it a few times, so that it does not stick. Water runs meanwhile.",
                action=Action.NAMED,
                action_name="exercise_valve",
                schema={
                    "type": "object",
                    "properties": {
                        "strokes": {
                            "type": "integer",
                            "title": "Strokes",
                            "minimum": 1,
                            "maximum": 10,
                            "default": 2,
                        }
                    },
                    "required": [],
                    "additionalProperties": False,
                },
                harm=Harm.DISRUPTIVE,
                minutes=3,
                offers=[Offer(model=DeviceModel.objects.get(name="Rill V2"), from_version="2.6.0")],
            ),
            actor=self._engineer,
            now=self._now,
        )

    def _launch(
        self,
        family: str,
        version: str,
        audience: str,
        rings: Sequence[drafts.RingDraft],
        *,
        apart: Sequence[str] = (),
        at_night: bool = True,
    ) -> Rollout:
        draft = drafts.RolloutDraft(
            changes=drafts.to(_image(family, version)),
            include=[_group(audience)],
            exclude=[_group(name) for name in ("Bench and spares", *apart)],
            rings=rings,
            window_start=time(1) if at_night else None,
            window_end=time(4, 30) if at_night else None,
            max_attempts=1,
        )
        rollout = drafts.save_draft(draft, actor=self._engineer, now=self._now)
        self._carry_out(rollout)
        return rollout

    def _carry_out(self, rollout: Rollout) -> None:
        """Launch without a worker, which there is none of in the past."""
        Rollout.objects.filter(pk=rollout.pk).update(
            state=RolloutState.LAUNCHING, launched_by=self._engineer, seed=SEED
        )
        launching.launch(rollout, now=self._now)

    def _draft(self) -> None:
        drafts.save_draft(
            drafts.RolloutDraft(
                changes=drafts.to(_image("Sill", "5.2.1")),
                include=[_group("Field gateways")],
                exclude=[_group("Bench and spares")],
                rings=_rings(_pilot_group(), _group("Amber Fold"), soak=720),
                window_start=time(1),
                window_end=time(4, 30),
                spread_minutes=20,
            ),
            actor=self._engineer,
            now=self._now,
        )

    def _running(self) -> None:
        """Rill 2.8.0 at any hour, launched as the demo begins, so that something moves at once."""
        oxbow = _group("Oxbow Flats")
        rollout = drafts.save_draft(
            drafts.RolloutDraft(
                changes=drafts.to(_image("Rill", "2.8.0")),
                include=[_group("Valve controllers")],
                exclude=[_group("Bench and spares")],
                rings=[
                    drafts.RingDraft(name="Canary", kind=RingKind.NUMBER, number=24, soak_minutes=120),
                    drafts.RingDraft(name="Oxbow Flats", kind=RingKind.GROUP, group=oxbow, soak_minutes=240),
                    drafts.RingDraft(name="Everyone left", kind=RingKind.REST, soak_minutes=0),
                ],
                failure_limit_pct=4,
                max_concurrent=40,
                expires_after_hours=72,
            ),
            actor=self._engineer,
            now=self._now,
        )
        self._carry_out(rollout)


def _group(name: str) -> Group:
    return Group.objects.get(name=name)


def _image(family: str, version: str) -> Image:
    return Image.objects.get(family=family, version=version)


def _pilot_group() -> drafts.RingDraft:
    pilot = _group("Field-day pilot")
    return drafts.RingDraft(name="Pilot", kind=RingKind.GROUP, group=pilot, soak_minutes=180)


def _first_few(number: int) -> drafts.RingDraft:
    return drafts.RingDraft(name="First few", kind=RingKind.NUMBER, number=number, soak_minutes=180)


def _rings(first: drafts.RingDraft, early: Group, *, soak: int) -> list[drafts.RingDraft]:
    return [
        first,
        drafts.RingDraft(name="Canary", kind=RingKind.SHARE, share_pct=5, soak_minutes=soak),
        drafts.RingDraft(name="Early", kind=RingKind.GROUP, group=early, soak_minutes=soak),
        drafts.RingDraft(name="Everyone left", kind=RingKind.REST, soak_minutes=0),
    ]


def _whole(ring: dict[str, object]) -> dict[str, object]:
    """A ring with every field that the API gives it."""
    nothing = {
        "group_id": None,
        "share_pct": None,
        "number": None,
        "confirmed_pct": 95.0,
        "max_unreached": None,
        "min_tried": None,
    }
    return {**nothing, "needs_approval": False, **ring}

"""What a draft meets: other rollouts, freezes and schedules, with how many devices and what will happen."""

from datetime import time, timedelta

import pytest
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.rollouts.compose.conflicts import conflicts_of
from herald.time import clock
from tests.factories import NOW, launched, make_devices, make_draft, make_image, make_static, make_user, restart

pytestmark = pytest.mark.django_db


def test_everything_that_wants_the_same_devices_is_named_with_what_will_happen() -> None:
    devices = make_devices(4)
    some, others = make_static("Some", devices[:3]), make_static("Others", devices[2:])
    nobody_of_these = make_static("Elsewhere", make_devices(2))
    image = make_image()
    open_one = launched(make_draft(others, image))
    draft = make_draft(some, image)
    assert [(c.kind, c.id, c.devices) for c in conflicts_of(draft, now=NOW)] == [("rollout", open_one.pk, 1)]
    begins = NOW + timedelta(days=1)
    for name, groups in (("Harvest", [others]), ("Not theirs", [nobody_of_these])):
        period = {"starts_at": begins, "ends_at": begins + timedelta(days=2)}
        save_freeze(FreezeDraft(name=name, groups=groups, **period), actor=None, now=NOW)  # type: ignore[arg-type]
    for include, exclude in (([some], [others]), ([nobody_of_these], [])):
        daily = ScheduleDraft(
            template=restart(),
            include=include,
            exclude=exclude,
            when=When.REPEAT,
            rule="FREQ=DAILY",
            time_of_day=time(3),
        )
        create_schedule(daily, actor=None, now=NOW)
    found = conflicts_of(draft, now=NOW)
    assert [(c.kind, c.devices) for c in found] == [("rollout", 1), ("freeze", 1), ("schedule", 2)]
    assert "nothing is installed from 24 Nov 02:00 to 26 Nov 02:00 UTC" in found[1].what
    assert "expires there after 120 minutes" in found[2].what
    late = make_draft(some, image, starts_at=NOW + timedelta(days=30))
    assert "freeze" not in [c.kind for c in conflicts_of(late, now=NOW)]
    draft.freeze_override_reason = "frost tonight"
    assert "nothing is installed" in next(c.what for c in conflicts_of(draft, now=NOW) if c.kind == "freeze"), (
        "unapproved"
    )
    draft.override_approved_by = make_user("approver")
    assert "gone on in, as said: frost tonight" in [c.what for c in conflicts_of(draft, now=NOW) if c.kind == "freeze"]


def test_the_call_says_nothing_where_nothing_conflicts() -> None:
    client = APIClient()
    client.force_authenticate(make_user())
    draft = make_draft(make_static("G", make_devices(1)))
    assert client.get(f"/api/v1/rollouts/{draft.pk}/conflicts").json() == []
    save_freeze(
        FreezeDraft(name="Now", starts_at=clock.now(), ends_at=clock.now() + timedelta(hours=1), everywhere=True),
        actor=None,
        now=clock.now(),
    )
    assert [c["name"] for c in client.get(f"/api/v1/rollouts/{draft.pk}/conflicts").json()] == ["Freeze “Now”"]

"""A list asks the database the same number of questions whether it shows one row or many."""

from collections.abc import Callable
from datetime import time, timedelta
from typing import Any

import pytest
from django.db import connection
from django.test.utils import CaptureQueriesContext
from rest_framework.test import APIClient

from herald.attention.models import Quarantine
from herald.calendar.services import FreezeDraft, save_freeze
from herald.catalog.codes import CodeDraft, make_code
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.fleet.models import Custodian, EnrolmentAttempt, PropertyDefinition, ReportedFact, Site, Tag
from herald.groups.models import Folder
from herald.imports.services import create_import
from herald.people.models import User
from herald.rollouts.compose.ring_plans import save_ring_plan
from tests.factories import (
    NOW,
    launched,
    make_device,
    make_devices,
    make_draft,
    make_image,
    make_model,
    make_rule_group,
    make_site,
    make_static,
    make_user,
    restart,
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]
MANY = 12


@pytest.fixture
def user() -> User:
    return make_user("administrator")


@pytest.fixture
def client(user: User) -> APIClient:
    client = APIClient()
    client.force_authenticate(user)
    return client


def one_rollout(n: int, user: User) -> None:
    devices = make_devices(2)
    group = make_static(f"Of rollout {n}", devices)
    rings = [ring("First", confirmed_pct=50.0), ring("Rest")]
    rollout = launched(make_draft(group, make_image(f"5.3.{n}"), rings=rings, devices=[devices[0].pk]))
    deliveries.offer(
        Delivery.objects.of_rollout(rollout.pk).values_list("id", flat=True)[:1],
        until=NOW + timedelta(hours=1),
        now=NOW,
    )


def one_rollout_that_waits(n: int, user: User) -> None:
    """Its devices wait for their window, at a site with a cap, below another rollout."""
    site = make_site(f"Waiting {n}", "Asia/Kolkata")
    Site.objects.filter(pk=site.pk).update(transfers_at_once=2)
    group = make_static(f"That waits {n}", make_devices(2, site=site))
    hours = {"window_start": time(1), "window_end": time(2), "max_concurrent_per_site": 1, "max_starts_per_hour": 5}
    launched(make_draft(group, make_image(f"5.4.{n}"), rings=[ring("First"), ring("Rest")], **hours))


def one_schedule(n: int, user: User) -> None:
    group = make_static(f"Of schedule {n}", [make_device(site=make_site(f"Site {n}", "Asia/Kolkata"))])
    draft = ScheduleDraft(
        template=restart(), include=[group], when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5, n)
    )
    create_schedule(draft, actor=user, now=NOW)


def one_freeze(n: int, user: User) -> None:
    group = make_static(f"Of freeze {n}", [make_device()])
    until = NOW + timedelta(days=1)
    draft = FreezeDraft(name=f"F{n}", why="harvest", starts_at=NOW, ends_at=until, groups=[group], sites=[])
    save_freeze(draft, actor=user, now=NOW)


def one_attribute(n: int, user: User) -> None:
    PropertyDefinition.objects.create(key=f"a{n}", source="attribute", label=f"A {n}", type="number")
    make_device(attributes={f"a{n}": n})
    make_rule_group(f"By attribute {n}", f"a{n} = {n}")


def one_fact(n: int, user: User) -> None:
    PropertyDefinition.objects.create(key=f"f{n}", source="fact", label=f"F {n}", type="number")
    ReportedFact.objects.create(key=f"f{n}", first_at=NOW)
    make_rule_group(f"By fact {n}", f"f{n} = {n}")


def one_tag(n: int, user: User) -> None:
    Tag.objects.create(slug=f"t{n}")
    make_device(tags=[f"t{n}"])
    make_rule_group(f"By tag {n}", f"tag = t{n}")


def one_site(n: int, user: User) -> None:
    make_device(site=make_site(f"S{n}"))
    make_rule_group(f"By site {n}", f"site = S{n}")


def one_model(n: int, user: User) -> None:
    make_device(model=make_model(f"M{n}", f"F{n}"))
    make_rule_group(f"By model {n}", f"model = M{n}")


def one_custodian(n: int, user: User) -> None:
    make_device(custodian=Custodian.objects.create(name=f"C{n}", email="c@example.com", tags=["x"]))
    make_rule_group(f"By custodian {n}", f"custodian = C{n}")


def one_group(n: int, user: User) -> None:
    folder = Folder.objects.create(name=f"Folder {n}")
    group = make_rule_group(f"Group {n}", "everything")
    group.folder = folder
    group.save()


def one_edit(n: int, user: User) -> None:
    from herald.edits.change import RequestedEdit
    from herald.edits.services import Target, request_edit

    request_edit(RequestedEdit(add_tags=[f"e{n}"]), Target(devices=[make_device().name]), actor=user, now=NOW)


def one_plan(n: int, user: User) -> None:
    all_of_them = {"name": "All", "kind": "rest", "confirmed_pct": 95.0, "soak_minutes": n, "needs_approval": False}
    nothing = dict.fromkeys(("group_id", "share_pct", "number", "max_unreached", "min_tried"))
    save_ring_plan(f"Plan {n}", [{**all_of_them, **nothing}], actor=user, now=NOW)


#: what makes one row more, by the list that shows it
MAKERS: dict[str, Callable[[int, User], Any]] = {
    "devices": lambda n, user: make_device(custodian=Custodian.objects.create(name=f"D{n}", email="d@example.com")),
    "groups": one_group,
    "folders": one_group,
    "rollouts": lambda n, user: (one_rollout(n, user), one_rollout_that_waits(n, user)),
    "schedules": one_schedule,
    "now": lambda n, user: (one_rollout(n, user), one_rollout_that_waits(n, user), one_schedule(n, user)),
    "images": lambda n, user: make_image(f"7.0.{n}", models=[make_model(f"Image model {n}")]),
    "freezes": one_freeze,
    "attributes": one_attribute,
    "facts": one_fact,
    "tags": one_tag,
    "sites": one_site,
    "models": one_model,
    "custodians": one_custodian,
    "enrolment-codes": lambda n, user: make_code(
        CodeDraft(label=f"Code {n}", site=make_site(f"Code site {n}").name), actor=user, now=NOW
    ),
    "edits": one_edit,
    "imports": lambda n, user: create_import(b"uid,model\nA,B\n", f"f{n}.csv", actor=make_user(), now=NOW),
    "ring-plans": one_plan,
    "admissions": lambda n, user: (
        make_device(admission="waiting", site=make_site(f"Waiting {n}")),
        EnrolmentAttempt.objects.note(f"U{n}", "bad-code", NOW),
    ),
    "quarantine": lambda n, user: Quarantine.objects.create(
        part="group", object_id=make_static(f"Q{n}", []).pk, cause="x", since=NOW, retry_at=NOW
    ),
    "record": lambda n, user: one_edit(n, make_user()),
    "fields": one_attribute,
    "capabilities": one_model,
    "approval-policies": one_model,
}


@pytest.mark.parametrize("path", sorted(MAKERS))
def test_a_list_asks_the_same_of_one_row_and_of_many(client: APIClient, user: User, path: str) -> None:
    def asked() -> tuple[int, list[str]]:
        with CaptureQueriesContext(
            connection,
        ) as captured:
            answer = client.get(f"/api/v1/{path}")
        assert answer.status_code == 200, answer.content
        return len(captured), [q["sql"][:150] for q in captured.captured_queries]

    MAKERS[path](0, user)
    asked()  # what is read once and kept
    one, _ = asked()
    for n in range(1, MANY):
        MAKERS[path](n, user)
    many, questions = asked()
    assert many <= one, "\n".join(sorted(questions))

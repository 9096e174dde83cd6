"""Changes of deliveries: guarded, set-based, with an event each; races have one winner."""

import contextlib
import threading
from datetime import timedelta
from typing import Any

import pytest
from django.db import IntegrityError, connection, transaction

from herald.deliveries import services
from herald.deliveries.models import Delivery, DeliveryEvent
from herald.deliveries.timeline import device_timeline
from herald.record.models import RecordEntry
from herald.rollouts.intervene.lifecycle import Conflict, pause
from herald_core.deliveries import Event, failure
from tests.factories import NOW, launched, make_devices, make_draft, make_static, make_user

pytestmark = pytest.mark.django_db


def waiting(count: int = 3, **fields: Any) -> list[Delivery]:
    launched(make_draft(make_static("G", make_devices(count)), **fields))
    return list(Delivery.objects.order_by("id"))


def test_only_those_in_a_fitting_phase_move_and_each_leaves_an_event() -> None:
    first, *_ = waiting()
    services.offer([first.pk], until=NOW + timedelta(hours=1), now=NOW)
    assert services.move(Delivery.objects.all(), Event.ACCEPT, now=NOW, cause="reported accepted") == 1
    assert list(DeliveryEvent.objects.order_by("id").values_list("from_phase", "to_phase")) == [
        ("waiting", "offered"),
        ("offered", "accepted"),
    ]


def test_what_a_device_installs_is_never_taken_back() -> None:
    first, *_ = waiting()
    services.offer([first.pk], until=NOW + timedelta(hours=1), now=NOW)
    services.move(Delivery.objects.filter(pk=first.pk), Event.INSTALL, now=NOW, cause="reported installing")
    assert services.withdraw(Delivery.objects.all(), now=NOW, cause="stopped") == 2
    first.refresh_from_db()
    assert first.phase == "installing"


def test_expiry_spares_what_the_device_has_begun() -> None:
    first, *_ = waiting(expires_after_hours=1)
    services.offer([first.pk], until=NOW + timedelta(hours=1), now=NOW)
    services.move(Delivery.objects.filter(pk=first.pk), Event.INSTALL, now=NOW, cause="reported installing")
    services.expire(now=NOW + timedelta(hours=1))


def test_nothing_moves_twice() -> None:
    waiting()
    assert services.withdraw(Delivery.objects.all(), now=NOW, cause="x") == 3
    assert services.withdraw(Delivery.objects.all(), now=NOW, cause="x") == 0
    assert DeliveryEvent.objects.count() == 3


def test_a_blameless_end_counts_no_attempt() -> None:
    first, *_ = waiting(max_attempts=1)
    services.offer([first.pk], until=NOW + timedelta(hours=1), now=NOW)
    first.refresh_from_db()
    step = failure(services.as_in_hand(first), "too-late")
    services.apply_changes([services.Change(delivery=first, steps=[step])], now=NOW)
    first.refresh_from_db()
    assert (first.phase, first.attempt, first.max_attempts) == ("waiting", 2, 2)


@pytest.mark.parametrize(
    "change",
    [{"phase": "exploded"}, {"kind": "command"}, {"image": None}, {"rollout": None}],
)
def test_the_database_refuses_deliveries_that_cannot_be(change: dict[str, object]) -> None:
    first, *_ = waiting()
    with pytest.raises(IntegrityError), transaction.atomic():
        Delivery.objects.filter(pk=first.pk).update(**change)


def test_a_devices_story_has_its_orders_and_groups() -> None:
    first, *_ = waiting()
    services.offer([first.pk], until=NOW + timedelta(hours=1), now=NOW)
    story = device_timeline(first.device, most=10)
    assert {"Sill 5.2.1: offered", "joined “G”", "first seen"} <= {e["text"] for e in story}
    assert story == sorted(story, key=lambda e: e["at"], reverse=True)


@pytest.mark.django_db(transaction=True)
def test_of_two_who_pause_at_once_one_wins() -> None:
    waiting()
    rollout = Delivery.objects.all()[0].rollout
    actor = make_user()
    assert rollout is not None
    outcomes: list[str] = []
    ready = threading.Barrier(2)

    def press() -> None:
        ready.wait()
        try:
            pause(rollout, actor=actor, now=NOW)
            outcomes.append("paused")
        except Conflict:
            outcomes.append("refused")
        finally:
            connection.close()

    threads = [threading.Thread(target=press) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert sorted(outcomes) == ["paused", "refused"]
    assert RecordEntry.objects.filter(sentence__startswith="Paused", actor=actor).count() == 1


@pytest.mark.django_db(transaction=True)
def test_two_clocks_that_offer_at_once_give_a_device_one_order() -> None:
    devices = make_devices(8)
    group = make_static("G", devices)
    from tests.factories import make_image

    for image in (make_image("5.2.1"), make_image("5.3.0", b"other")):
        launched(make_draft(group, image))
    by_rollout: dict[int | None, list[int]] = {}
    for delivery in Delivery.objects.all():
        by_rollout.setdefault(delivery.rollout_id, []).append(delivery.pk)
    ready = threading.Barrier(2)

    def press(ids: list[int]) -> None:
        ready.wait()
        for pk in ids:
            with contextlib.suppress(IntegrityError):  # the other was first; the database says so
                services.offer([pk], until=NOW + timedelta(hours=1), now=NOW)
        connection.close()

    threads = [threading.Thread(target=press, args=(ids,)) for ids in by_rollout.values()]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    in_hand = list(Delivery.objects.in_hand().values_list("device_id", flat=True))
    assert sorted(in_hand) == sorted(d.pk for d in devices)

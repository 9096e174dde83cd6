"""Rings that have not opened are added, split, put in another order and removed; what is open stays as it is."""

from collections import Counter
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.deliveries.models import Delivery
from herald.fleet.models import Device
from herald.groups.models import Group
from herald.http.errors import Conflict, Invalid
from herald.images.models import Image
from herald.rollouts.engine import tick
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene.rings_ahead import RingAhead, change_rings_ahead, preview_rings_ahead
from herald.rollouts.models import Ring, Rollout, StoredForecast
from herald_core.rings.assignment import RingKind
from tests.factories import NOW, launched, make_device, make_devices, make_draft, make_image, make_static, ring

pytestmark = pytest.mark.django_db


def in_three(count: int = 13) -> Rollout:
    """Three in the first ring, which is open, half of the others in the second, the rest in the third."""
    rings = [
        ring("First", RingKind.NUMBER, number=3),
        ring("Half", RingKind.SHARE, share_pct=50.0, soak_minutes=30),
        ring("Rest"),
    ]
    group = Group.objects.filter(name="G").first() or make_static("G", make_devices(count))
    image = Image.objects.first() or make_image()
    rollout = launched(make_draft(group, image, rings=rings))
    tick_rollouts(now=NOW)
    return rollout


def ahead(rollout: Rollout) -> list[RingAhead]:
    """The rings ahead as they are, to be changed."""
    return [
        RingAhead(
            id=r.pk,
            draft=ring(
                r.name,
                RingKind(r.kind),
                group=r.group,
                share_pct=r.share_pct,
                number=r.number,
                soak_minutes=r.soak_minutes,
            ),
        )
        for r in rollout.rings.filter(opened_at=None)
    ]


def new(*args: Any, **fields: Any) -> RingAhead:
    return RingAhead(id=None, draft=ring(*args, **fields))


def members(rollout: Rollout) -> dict[str, set[int]]:
    """The devices of each ring, by its name, in the order of the rings."""
    found: dict[str, set[int]] = {r.name: set() for r in rollout.rings.all()}
    for name, device in Delivery.objects.of_rollout(rollout.pk).values_list("ring__name", "device_id"):
        found[name].add(device)
    return found


def test_a_ring_is_split_and_the_others_keep_their_devices() -> None:
    rollout = in_three()
    before = members(rollout)
    StoredForecast.objects.create(rollout=rollout, at=NOW)
    half, rest = ahead(rollout)
    wanted = [half, new("Rest, first half", RingKind.SHARE, share_pct=50.0, soak_minutes=60), rest]
    told = preview_rings_ahead(rollout, wanted, now=NOW)
    found = [(r.position, r.was, r.before, r.after) for r in told.rings]
    assert found == [(2, 2, 5, 5), (3, None, None, 3), (4, 3, 5, 2)]
    assert (told.moving, told.unplaced, told.same) == (3, 0, False)
    assert members(rollout) == before
    assert change_rings_ahead(rollout, wanted, actor=None, now=NOW) == told
    after = members(rollout)
    assert list(after) == ["First", "Half", "Rest, first half", "Rest"]
    assert (after["First"], after["Half"]) == (before["First"], before["Half"])
    assert after["Rest, first half"] | after["Rest"] == before["Rest"]
    assert [r.position for r in rollout.rings.all()] == [1, 2, 3, 4]
    assert rollout.rings.get(position=3).soak_minutes == 60
    assert not StoredForecast.objects.exists()  # it spoke of other rings


def test_a_ring_is_removed_and_its_devices_go_on_in_the_next() -> None:
    rollout = in_three()
    before = members(rollout)
    _, rest = ahead(rollout)
    told = change_rings_ahead(rollout, [rest], actor=None, now=NOW)
    assert [(r.position, r.name, r.devices) for r in told.removed] == [(2, "Half", 5)]
    assert members(rollout) == {"First": before["First"], "Rest": before["Half"] | before["Rest"]}
    assert rollout.rings.get(name="Rest").position == 2


def test_a_group_goes_before_all_others() -> None:
    rollout = in_three()
    late = sorted(members(rollout)["Rest"])[:2]
    group = make_static("Near the office", list(Device.objects.filter(pk__in=late)))
    wanted = [new("Near", RingKind.GROUP, group=group), *ahead(rollout)]
    told = change_rings_ahead(rollout, wanted, actor=None, now=NOW)
    assert [r.after for r in told.rings] == [2, 4, 4]
    assert members(rollout)["Near"] == set(late)


def test_another_gate_or_name_moves_nobody() -> None:
    rollout = in_three()
    before = [frozenset(v) for v in members(rollout).values()]
    half, rest = ahead(rollout)
    renamed = RingAhead(id=half.id, draft=ring("Many", RingKind.SHARE, share_pct=50.0, soak_minutes=90))
    told = change_rings_ahead(rollout, [renamed, rest], actor=None, now=NOW)
    assert told.moving == 0
    assert [frozenset(v) for v in members(rollout).values()] == before
    assert rollout.rings.get(position=2).soak_minutes == 90


def test_what_had_the_version_and_what_went_ahead_is_lost_with_no_ring() -> None:
    devices = [*make_devices(9), make_device(firmware="5.2.1")]
    rings = [ring("First", RingKind.NUMBER, number=3), ring("Half", RingKind.SHARE, share_pct=50.0), ring("Rest")]
    rollout = launched(make_draft(make_static("G", devices), rings=rings))
    tick_rollouts(now=NOW)
    Delivery.objects.filter(pk=Delivery.objects.filter(ring__name="Half")[0].pk).update(phase="failed")
    change_rings_ahead(rollout, [new("All of them")], actor=None, now=NOW)
    assert Counter(Delivery.objects.values_list("ring__name", "phase")) == {
        ("First", "offered"): 3,
        ("All of them", "waiting"): 5,
        ("All of them", "failed"): 1,
        ("All of them", "confirmed"): 1,
    }


def test_what_had_the_version_stays_in_the_last_ring_whichever_that_is() -> None:
    devices = [*make_devices(9), make_device(firmware="5.2.1")]
    rings = [ring("First", RingKind.NUMBER, number=3), ring("Half", RingKind.SHARE, share_pct=50.0), ring("Rest")]
    rollout = launched(make_draft(make_static("G", devices), rings=rings))
    tick_rollouts(now=NOW)
    half, rest = ahead(rollout)
    swapped = [
        RingAhead(id=rest.id, draft=ring("Rest", RingKind.SHARE, share_pct=50.0)),
        RingAhead(id=half.id, draft=ring("Half")),
    ]
    change_rings_ahead(rollout, swapped, actor=None, now=NOW)
    assert [r.name for r in rollout.rings.all()] == ["First", "Rest", "Half"]
    assert Delivery.objects.get(phase="confirmed").ring == rollout.rings.get(name="Half")


def test_nobody_is_left_without_a_ring() -> None:
    rollout = in_three()
    before = members(rollout)
    wanted = [new("Two", RingKind.NUMBER, number=2)]
    assert preview_rings_ahead(rollout, wanted, now=NOW).unplaced == 8
    with pytest.raises(Invalid, match="8 devices would be in no ring"):
        change_rings_ahead(rollout, wanted, actor=None, now=NOW)
    assert members(rollout) == before
    with pytest.raises(Conflict, match="Nothing would change"):
        change_rings_ahead(rollout, ahead(rollout), actor=None, now=NOW)


def test_an_open_ring_is_not_among_those_ahead(client: APIClient) -> None:
    rollout = in_three()
    first = rollout.rings.get(position=1)
    path = f"/api/v1/rollouts/{rollout.pk}/rings-ahead"
    body = {"rings": [{"id": first.pk, "name": "First", "kind": "rest"}]}
    for call, url in ((client.put, path), (client.post, f"{path}/preview")):
        refused = call(url, body, format="json")
        assert refused.status_code == 422
        assert refused.json()["errors"][0]["pointer"] == "/rings/0/id"
    both = [{"id": rollout.rings.get(position=3).pk, "name": n, "kind": "rest"} for n in ("A", "B")]
    assert "named twice" in client.put(path, {"rings": both}, format="json").json()["detail"]
    nothing = client.put(path, {"rings": []}, format="json")
    assert nothing.status_code == 422
    Ring.objects.filter(rollout=rollout).update(opened_at=NOW)
    assert client.put(path, {"rings": both[:1]}, format="json").status_code == 409


def test_a_clock_that_has_read_the_old_rings_opens_none_of_them(monkeypatch: pytest.MonkeyPatch) -> None:
    """Between reading the rings and opening the next one somebody puts them in another order."""
    rollout = in_three()
    for delivery in Delivery.objects.filter(ring__name="First"):
        Delivery.objects.filter(pk=delivery.pk).update(phase="confirmed")
    real = tick._open_ring

    def changed_meanwhile(rollout: Rollout, ring: Ring, now: Any) -> bool:
        if ring.position == 2 and ring.name == "Half":
            half, rest = ahead(rollout)
            change_rings_ahead(rollout, [new("Careful", RingKind.NUMBER, number=1), half, rest], actor=None, now=NOW)
        return real(rollout, ring, now)

    monkeypatch.setattr(tick, "_open_ring", changed_meanwhile)
    tick_rollouts(now=NOW)
    assert [r.name for r in rollout.rings.filter(opened_at__isnull=False)] == ["First"]
    tick_rollouts(now=NOW)
    assert [r.name for r in rollout.rings.filter(opened_at__isnull=False)] == ["First", "Careful"]


KINDS = st.one_of(
    st.integers(1, 6).map(lambda n: (RingKind.NUMBER, {"number": n})),
    st.floats(1, 100).map(lambda s: (RingKind.SHARE, {"share_pct": s})),
)


@given(rings=st.lists(st.tuples(st.sampled_from([0, 1, None]), KINDS), max_size=4), last=st.sampled_from([0, 1, None]))
@settings(max_examples=12, deadline=None)
def test_every_device_is_in_one_ring_whatever_is_done(rings: list[Any], last: int | None) -> None:
    rollout = in_three(9)
    before = members(rollout)
    now = ahead(rollout)
    wanted, used = [], set()
    for index, (kind, fields) in [*rings, (last, (RingKind.REST, {}))]:
        keeps = index is not None and index not in used
        used.add(index)
        wanted.append(RingAhead(id=now[index].id if keeps else None, draft=ring(f"R{len(wanted)}", kind, **fields)))
    told = change_rings_ahead(rollout, wanted, actor=None, now=NOW)
    after = members(rollout)
    assert after.pop("First") == before["First"]
    assert [len(after[f"R{i}"]) for i in range(len(wanted))] == [r.after for r in told.rings]
    assert sorted(d for ids in after.values() for d in ids) == sorted(before["Half"] | before["Rest"])
    assert [r.position for r in rollout.rings.all()] == list(range(1, len(wanted) + 2))
    rollout.delete()


def test_a_ring_of_a_group_is_split_in_halves() -> None:
    devices = make_devices(14)
    part = make_static("Part", devices[4:])
    rings = [
        ring("First", RingKind.NUMBER, number=2),
        ring("Part", RingKind.GROUP, group=part, soak_minutes=30),
        ring("Rest"),
    ]
    rollout = launched(make_draft(make_static("G", devices), make_image(), rings=rings))
    tick_rollouts(now=NOW)
    whole, rest = ahead(rollout)
    size = Delivery.objects.filter(ring=whole.id).count()
    half = new("Part, first half", RingKind.GROUP, group=part, share_pct=50.0, soak_minutes=30)
    told = preview_rings_ahead(rollout, [half, whole, rest], now=NOW)
    assert [r.after for r in told.rings[:2]] == [-(-size // 2), size // 2] and told.moving == -(-size // 2)
    change_rings_ahead(rollout, [half, whole, rest], actor=None, now=NOW)
    drawn = Delivery.objects.filter(rollout=rollout, ring__name__startswith="Part")
    assert set(drawn.values_list("device_id", flat=True)) <= {d.pk for d in devices[4:]} and drawn.count() == size

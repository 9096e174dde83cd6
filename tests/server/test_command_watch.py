"""How firings went: answers put together, what becomes of them, shares, and outputs."""

from datetime import UTC, datetime, time, timedelta
from pathlib import Path
from typing import Any

import pytest
from rest_framework.test import APIClient

from herald.attention.models import Item, ItemKind
from herald.commands import outputs
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.misses import note_misses
from herald.commands.models import CommandTemplate, Output, Schedule, ScheduleState, When
from herald.commands.services import set_state
from herald.commands.turn import turn_schedules
from herald.commands.watch import repeated_misses, shares_of
from herald.deliveries import services as deliveries
from herald.deliveries.models import Delivery
from herald.groups.models import Group
from herald.record.models import RecordEntry
from herald.time import clock
from tests.factories import NOW, make_device, make_devices, make_static

pytestmark = pytest.mark.django_db
V1 = "/api/v1"
DAY, HOUR, MINUTE = timedelta(days=1), timedelta(hours=1), timedelta(minutes=1)


def make_schedule(group: Group, key: str = "health-check", **fields: Any) -> Schedule:
    template = CommandTemplate.objects.get(key=key)
    draft = ScheduleDraft(template=template, include=[group], **{"when": When.NOW, "spread_minutes": 0, **fields})
    return create_schedule(draft, actor=None, now=NOW)


def end(schedule: Schedule, *ends: tuple[str, Any]) -> list[Delivery]:
    """The devices of its firings end so, in the order of their ids: a phase, and an answer or error."""
    rows = list(Delivery.objects.of_schedule(schedule.pk).order_by("id"))
    for row, (phase, what) in zip(rows, ends, strict=True):
        row.phase, row.phase_since = phase, NOW + MINUTE
        row.results = {} if what is None or phase == "failed" else {"answer": what}
        row.last_error = what if phase == "failed" else ""
        row.save()
    return rows


def test_answers_are_grouped_and_become_the_next_audience(client: APIClient) -> None:
    schedule = make_schedule(make_static("G", make_devices(5)))
    rows = end(
        schedule,
        ("confirmed", "ok"),
        ("confirmed", "stale"),
        ("confirmed", "ok"),
        ("failed", "busy"),
        ("expired", None),
    )
    path = f"{V1}/schedules/{schedule.pk}"
    found = client.get(f"{path}/answers").json()
    assert [(g["key"], g["count"]) for g in found["groups"]] == [
        ("equal:ok", 2), ("equal:stale", 1), ("failed:busy", 1), ("missed:", 1),
    ]  # fmt: skip
    listed = client.get(f"{path}/deliveries", {"answer": "equal:stale"}).json()
    assert [(d["id"], d["answer"]) for d in listed["deliveries"]] == [(rows[1].pk, "stale")]
    body = {"occurrences": found["occurrences"], "keys": ["equal:stale", "failed:busy"], "name": "To look at"}
    made = client.post(f"{path}/answers/group", body, format="json")
    assert made.status_code == 201
    group = Group.objects.get(pk=made.json()["id"])
    assert set(group.memberships.values_list("device_id", flat=True)) == {rows[1].device_id, rows[3].device_id}
    nobody = client.post(f"{path}/answers/group", {**body, "keys": ["equal:no"], "name": "None"}, format="json")
    assert nobody.status_code == 422 and not Group.objects.filter(name="None").exists()


def test_firings_of_other_commands_are_not_read(client: APIClient) -> None:
    mine, other = (make_schedule(make_static(n, [make_device()])) for n in ("A", "B"))
    foreign = other.occurrences.get().pk
    for asked in (str(foreign), "x", f"{foreign},", "9" * 30):
        answer = client.get(f"{V1}/schedules/{mine.pk}/answers", {"occurrence": asked})
        assert answer.status_code == 422, asked


def test_shares_tell_late_from_in_time_and_who_misses_again_and_again() -> None:
    group = make_static("G", make_devices(3))
    schedule = make_schedule(group, when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5, 30))
    fired = datetime(2026, 11, 23, 5, 30, tzinfo=UTC)
    for day in range(3):
        turn_schedules(now=fired + day * DAY)
        rows = list(Delivery.objects.filter(occurrence__fires_at=fired + day * DAY).order_by("device_id"))
        deliveries.expire(now=fired + day * DAY + 3 * HOUR)
        done = {0: HOUR, 1: 3 * HOUR} if day < 2 else {0: HOUR}
        for place, after in done.items():
            Delivery.objects.filter(pk=rows[place].pk).update(phase="confirmed", phase_since=fired + day * DAY + after)
    shares = shares_of(schedule, fired + 3 * DAY)
    assert (shares.devices, shares.done, shares.late, shares.missed) == (9, 3, 2, 4)
    [missing] = repeated_misses(schedule)
    assert missing["in_a_row"] == 3  # the second device missed the last one only
    turn_schedules(now=fired + 3 * DAY)
    assert repeated_misses(schedule) == [missing]  # what has just fired may still be done
    assert shares_of(schedule, fired + 60 * DAY).devices == 0


def test_devices_that_miss_twice_in_a_row_want_attention() -> None:
    schedule = make_schedule(
        make_static("G", make_devices(3)), when=When.REPEAT, rule="FREQ=DAILY", time_of_day=time(5, 30), name="Nightly"
    )
    fired = datetime(2026, 11, 23, 5, 30, tzinfo=UTC)
    items = Item.objects.open().of_kinds([ItemKind.MISSED])
    for day in range(2):
        turn_schedules(now=fired + day * DAY)
        note_misses(now=fired + day * DAY + HOUR)
        assert not items.exists()  # it is not over yet
        deliveries.expire(now=fired + day * DAY + 3 * HOUR)
        note_misses(now=fired + day * DAY + 3 * HOUR)
    item = items.get()
    assert (item.cause, item.count, item.object_id) == ("Missed “Nightly” twice in a row", 3, schedule.pk)
    turn_schedules(now=fired + 2 * DAY)
    Delivery.objects.filter(phase="waiting").update(phase="confirmed")
    note_misses(now=fired + 2 * DAY + 3 * HOUR)
    assert not items.exists()
    Delivery.objects.update(phase="expired")
    note_misses(now=fired + 3 * DAY)
    assert items.get().count == 3
    set_state(schedule, ScheduleState.ENDED, actor=None, now=fired + 3 * DAY)
    note_misses(now=fired + 3 * DAY)
    assert not items.exists()


def piece(delivery: Delivery, offset: int, text: bytes, now: datetime = NOW) -> outputs.Progress:
    return outputs.append(
        Delivery.objects.select_related("occurrence__template").get(pk=delivery.pk), offset, text, now=now
    )


def test_an_output_comes_in_pieces_and_is_cut_where_it_is_too_long(client: APIClient) -> None:
    schedule = make_schedule(make_static("G", [make_device()]))
    [delivery] = Delivery.objects.of_schedule(schedule.pk)
    assert piece(delivery, 0, b"one\ntwo\n") == outputs.Progress(8, False)
    assert piece(delivery, 0, b"one\n") == outputs.Progress(8, False)  # sent again: left, and told where it stands
    assert piece(delivery, 8, b"three\xff\n") == outputs.Progress(15, False)
    shown = client.get(f"{V1}/deliveries/{delivery.pk}/output", {"q": "T"}).json()
    assert [(line["number"], line["text"]) for line in shown["lines"]] == [(2, "two"), (3, "three\ufffd")]
    assert (shown["found"], shown["size"], shown["is_cut"]) == (2, 15, False)
    rest = piece(delivery, 15, b"x" * outputs.MOST_OF_TEXT)
    assert rest == outputs.Progress(outputs.MOST_OF_TEXT, True)
    assert client.get(f"{V1}/deliveries/{delivery.pk}/output").json()["is_cut"]


def test_what_a_crash_left_in_the_file_is_written_over(settings: Any) -> None:
    schedule = make_schedule(make_static("G", [make_device()]), "logs")
    [delivery] = Delivery.objects.of_schedule(schedule.pk)
    piece(delivery, 0, b"one\n")
    path = outputs.path_of(Output.objects.get())
    path.write_bytes(b"one\nhalf of the next that no row counts")
    piece(delivery, 4, b"two\n")
    assert path.read_bytes() == b"one\ntwo\n" and Path(settings.OUTPUTS_DIR) in path.parents


def test_an_output_is_compared_with_the_last_of_its_command(client: APIClient) -> None:
    group = make_static("G", [make_device()])
    for n, (key, text) in enumerate((("logs", b"a\nb\n"), ("health-check", b"z\n"), ("logs", b"a\nc\n"))):
        schedule = make_schedule(group, key)
        piece(Delivery.objects.of_schedule(schedule.pk).get(), 0, text, NOW + n * HOUR)
    first, _, last = Output.objects.order_by("pk")
    found = client.get(f"{V1}/deliveries/{last.delivery_id}/output/compare").json()
    assert found["before"] == first.delivery_id
    assert [line for line in found["lines"] if line[:1] in "+-" and line[:3] not in ("+++", "---")] == ["-b", "+c"]
    assert client.get(f"{V1}/deliveries/{first.delivery_id}/output/compare").json()["before"] is None


def test_outputs_in_reports_are_compared_too(client: APIClient) -> None:
    group, made = make_static("G", [make_device()]), []
    for word in ("ok", "worn"):
        schedule = make_schedule(group)
        [delivery] = end(schedule, ("confirmed", word))
        Delivery.objects.filter(pk=delivery.pk).update(
            results={"answer": word, "output": f"storage: {word}\nnetwork: ok"}
        )
        made.append(delivery.pk)
    found = client.get(f"{V1}/deliveries/{made[1]}/output/compare").json()
    assert found["before"] == made[0] and found["lines"][-3:] == ["-storage: ok", "+storage: worn", " network: ok"]


def test_a_download_is_an_attachment_and_on_record(client: APIClient) -> None:
    device = make_device()
    schedule = make_schedule(make_static("G", [device]), "logs")
    [delivery] = Delivery.objects.of_schedule(schedule.pk)
    with clock.fixed(NOW):
        piece(delivery, 0, b"<script>alert(1)</script>\n")
        answer: Any = client.get(f"{V1}/deliveries/{delivery.pk}/output/file")
        assert b"".join(answer.streaming_content) == b"<script>alert(1)</script>\n"
        assert answer["Content-Disposition"].startswith("attachment") and answer["Content-Type"] == "text/plain"
        assert answer["X-Content-Type-Options"] == "nosniff"
        entry = RecordEntry.objects.latest("pk")
        assert entry.sentence == f"Downloaded the log of {device.name}, 26 bytes"
        outputs.path_of(Output.objects.get()).unlink()
        assert client.get(f"{V1}/deliveries/{delivery.pk}/output/file").status_code == 404


def test_an_output_in_the_report_itself_is_shown_too(client: APIClient) -> None:
    schedule = make_schedule(make_static("G", [make_device()]))
    [delivery] = end(schedule, ("confirmed", "ok"))
    Delivery.objects.filter(pk=delivery.pk).update(results={"answer": "ok", "output": "storage: ok\nnetwork: ok"})
    shown = client.get(f"{V1}/deliveries/{delivery.pk}/output").json()
    assert [line["text"] for line in shown["lines"]] == ["storage: ok", "network: ok"] and not shown["is_file"]
    [row] = client.get(f"{V1}/schedules/{schedule.pk}/deliveries").json()["deliveries"]
    assert row["has_output"]


def test_old_outputs_go_and_so_do_the_oldest_of_a_device_that_has_too_much() -> None:
    device, other = make_devices(2)
    kept = []
    for n in range(4):
        schedule = make_schedule(make_static(f"G{n}", [device, other]), "logs")
        for delivery in Delivery.objects.of_schedule(schedule.pk):
            piece(delivery, 0, b"x", NOW + n * DAY)
        kept.append(schedule)
    Output.objects.filter(device=device, delivery__occurrence__schedule=kept[1]).update(size=outputs.MOST_OF_DEVICE)
    assert outputs.delete_old(now=NOW + 4 * DAY) == 2  # the large one, and the one before it
    assert outputs.delete_old(now=NOW + outputs.KEPT_FOR + MINUTE) == 1  # the other's first is too old by then
    assert Output.objects.filter(device=device).count() == 2
    assert Output.objects.filter(device=other).count() == 3

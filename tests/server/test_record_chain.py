"""The chain over the record: what is changed, removed, inserted or reordered shows, and the rest does not."""

import threading
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from django.core.management import CommandError, call_command
from django.db import connection

from herald.now.watching import Watcher
from herald.record import chain
from herald.record.models import ChainLink, ChainWitness, RecordEntry
from herald.record.services import record
from tests.elsewhere import post_office
from tests.factories import NOW, client_as, make_user

pytestmark = pytest.mark.django_db
REAL = datetime(2026, 11, 29, 12, tzinfo=UTC)
DAY = timedelta(days=1)


def write(count: int, *, at: datetime = NOW) -> list[RecordEntry]:
    user = make_user()
    for n in range(count):
        record(
            now=at + timedelta(seconds=n),
            actor=user if n % 2 else None,
            kind="group",
            object_id=n,
            sentence=f"Did “{n}”",
            before={"share": n / 3},
            after={"name": "ü"},
        )
    return list(RecordEntry.objects.order_by("id"))


def words() -> list[str]:
    return [f.words for f in chain.faults()]


@pytest.fixture
def kept() -> list[RecordEntry]:
    entries = write(7)
    chain.link_new(now=NOW)
    return entries


def test_a_record_that_is_only_written_is_as_it_was_written(kept: list[RecordEntry]) -> None:
    assert words() == []
    write(3, at=NOW + DAY)
    assert chain.link_new(now=NOW + DAY) == 3 and chain.link_new(now=NOW + DAY) == 0
    assert words() == []
    assert list(ChainLink.objects.order_by("position").values_list("position", flat=True)) == list(range(1, 11))


def test_an_entry_whose_writing_took_long_is_linked_late_and_is_no_fault(
    kept: list[RecordEntry], monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its id is older than those of entries that were linked meanwhile."""
    ChainLink.objects.filter(position__gt=5).delete()
    early = kept[5]
    RecordEntry.objects.filter(pk=early.pk).update(id=early.pk + 1000)
    chain.link_new(now=NOW)
    RecordEntry.objects.filter(pk=early.pk + 1000).update(id=early.pk)
    ChainLink.objects.filter(entry_id=early.pk + 1000).delete()
    monkeypatch.setattr(chain, "WINDOW", 0)
    assert chain.link_new(now=NOW) == 0
    assert chain.link_new(now=NOW, everything=True) == 1
    assert words() == []


CHANGES: dict[str, Callable[[list[RecordEntry]], object]] = {
    "sentence": lambda e: RecordEntry.objects.filter(pk=e[3].pk).update(sentence="Did nothing"),
    "actor": lambda e: RecordEntry.objects.filter(pk=e[3].pk).update(actor=None),
    "time": lambda e: RecordEntry.objects.filter(pk=e[3].pk).update(at=NOW + timedelta(microseconds=1)),
    "before": lambda e: RecordEntry.objects.filter(pk=e[3].pk).update(before={"share": 1.0000001}),
    "after": lambda e: RecordEntry.objects.filter(pk=e[3].pk).update(after=None),
    "object": lambda e: RecordEntry.objects.filter(pk=e[3].pk).update(object_id=99),
}


@pytest.mark.parametrize("what", list(CHANGES))
def test_a_changed_entry_shows(kept: list[RecordEntry], what: str) -> None:
    CHANGES[what](kept)
    assert words() == ["the entry was changed, or another stands in its place"]
    assert [f.entry for f in chain.faults()] == [kept[3].pk]


def test_a_removed_entry_shows_with_and_without_its_link(kept: list[RecordEntry]) -> None:
    kept[2].delete()
    assert words() == ["the entry was removed"]
    ChainLink.objects.filter(position=3).delete()
    assert words()[0] == "links 3 to 3 are gone"


def test_reordered_entries_show(kept: list[RecordEntry]) -> None:
    first, second = kept[1], kept[2]
    RecordEntry.objects.filter(pk=first.pk).update(sentence=second.sentence)
    RecordEntry.objects.filter(pk=second.pk).update(sentence=first.sentence)
    assert len(words()) == 2
    RecordEntry.objects.filter(pk=first.pk).update(sentence=first.sentence)
    RecordEntry.objects.filter(pk=second.pk).update(sentence=second.sentence)
    assert words() == []
    with connection.cursor() as cursor:  # two links change places
        cursor.execute("UPDATE record_chainlink SET entry_id = -entry_id WHERE position IN (2, 3)")
        cursor.execute("UPDATE record_chainlink SET entry_id = %s WHERE position = 2", [second.pk])
        cursor.execute("UPDATE record_chainlink SET entry_id = %s WHERE position = 3", [first.pk])
    assert len(words()) == 2


def test_an_entry_that_is_slipped_in_later_shows(kept: list[RecordEntry]) -> None:
    write(2, at=NOW + DAY)
    chain.link_new(now=NOW + DAY)
    RecordEntry.objects.create(at=NOW, kind="group", object_id=1, sentence="Approved by everybody")
    chain.link_new(now=NOW + 2 * DAY)
    assert words() == ["the entry is older than those before it: it was slipped in"]


def test_a_chain_that_was_written_anew_shows_against_a_hash_that_went_out(kept: list[RecordEntry]) -> None:
    witness = chain.head()
    assert list(chain.faults(witness)) == []
    RecordEntry.objects.filter(pk=kept[0].pk).update(sentence="Did nothing")
    ChainLink.objects.all().delete()
    chain.link_new(now=NOW)
    assert words() == []
    assert [f.position for f in chain.faults(witness)] == [7]
    ChainLink.objects.filter(position__gt=5).delete()
    assert "ends before position 7" in [f.words for f in chain.faults(witness)][-1]


def test_the_command_says_so_and_fails(kept: list[RecordEntry], capsys: pytest.CaptureFixture[str]) -> None:
    call_command("verify_record")
    assert "as it was written: 7 entries" in capsys.readouterr().out
    kept[2].delete()
    with pytest.raises(CommandError, match="not as it was written"):
        call_command("verify_record")
    assert "the entry was removed" in capsys.readouterr().err
    with pytest.raises(CommandError, match="name both"):
        call_command("verify_record", position=3)


def test_the_newest_hash_goes_out_once_a_day(kept: list[RecordEntry], settings: Any) -> None:
    settings.EMAIL_BACKEND = "django.core.mail.backends.smtp.EmailBackend"
    settings.RECORD_WITNESS = "auditor@example.org"
    with post_office() as office:
        settings.EMAIL_HOST, settings.EMAIL_PORT = "127.0.0.1", office.port
        assert chain.send_out_head(real_now=REAL) == chain.head()
        assert chain.send_out_head(real_now=REAL + DAY - timedelta(seconds=1)) is None
        assert chain.send_out_head(real_now=REAL + DAY) is None, "nothing is new"
        write(1)
        chain.link_new(now=NOW)
        assert chain.send_out_head(real_now=REAL + DAY) is not None
        first, second = office.texts("auditor@example.org")
    hashes = list(ChainWitness.objects.order_by("id").values_list("hash", flat=True))
    assert hashes[0] in first and hashes[1] in second


def test_before_and_after_are_told_with_an_entry(kept: list[RecordEntry]) -> None:
    (entry, *_) = client_as("viewer").get("/api/v1/record?limit=1").json()["entries"]
    assert entry["before"] == {"share": 2.0} and entry["after"] == {"name": "ü"}


def test_whoever_watches_keeps_the_chain(kept: list[RecordEntry], monkeypatch: pytest.MonkeyPatch) -> None:
    ChainLink.objects.all().delete()
    watcher = Watcher(threading.Event())
    watcher._keep_chain()
    watcher._keep_chain()
    assert ChainLink.objects.count() == len(kept) and ChainWitness.objects.count() == 1

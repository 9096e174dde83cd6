"""What a word means that somebody calls a device by: ids, names and uids are told apart."""

import pytest

from herald.fleet.services import Ambiguous, device_ids, find_device, find_devices
from herald.http.errors import NotFound
from tests.factories import make_device

pytestmark = pytest.mark.django_db


def test_digits_alone_are_an_id_and_never_a_name() -> None:
    other = make_device()
    named = make_device(name=str(other.pk))
    assert find_device(str(other.pk)) == other
    assert find_device(f"name:{named.name}") == named
    assert find_device(f"id:{named.pk}") == named
    with pytest.raises(NotFound, match="name:987654"):
        make_device(name="987654")
        find_device("987654")


def test_in_a_list_digits_are_a_name_or_uid_and_never_an_id() -> None:
    other = make_device()
    named = make_device(name=str(other.pk))
    assert device_ids([str(other.pk)], "/devices") == [named.pk]
    devices, unknown = find_devices(["nobody", named.uid, named.name])
    assert devices == [named] and unknown == ["nobody"]


def test_a_word_that_is_one_s_name_and_another_s_uid_is_refused_until_it_is_told_apart() -> None:
    by_name, by_uid = make_device(name="B-7"), make_device(uid="B-7")
    for find in (lambda: find_device("B-7"), lambda: device_ids(["B-7"], "/devices")):
        with pytest.raises(Ambiguous, match="name:B-7"):
            find()
    assert find_device("uid:B-7") == by_uid and find_device("name:B-7") == by_name
    assert device_ids(["uid:B-7", "name:B-7"], "/devices") == [by_uid.pk, by_name.pk]


def test_a_device_whose_name_is_its_uid_is_one_device() -> None:
    device = make_device(uid="SAME", name="SAME")
    assert find_device("SAME") == device and device_ids(["SAME"], "/devices") == [device.pk]


@pytest.mark.parametrize("word", ["²", "٣", "9" * 30, "id:", "id:x", "name:", "x" * 300])
def test_words_that_no_device_can_have_are_not_found(word: str) -> None:
    with pytest.raises(NotFound):
        find_device(word)

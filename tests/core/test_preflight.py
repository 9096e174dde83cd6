"""Preflight: the first reason that applies, the most fundamental first."""

import pytest

from herald_core.changes import Change, ChangeTable, Choice
from herald_core.preflight import TAKES_PART, WORDS, Candidate, Outcome, Preflight, Shortfall, shortfall_words
from herald_core.upgrades import Build, Upgrades
from herald_core.versions import version_key

BUILD = Build(
    id=7,
    version="5.2.1",
    models=frozenset({1, 2}),
    hardware_revisions=frozenset({"B", "C"}),
    min_version="5.0.0",
    free_space_mb=32,
    min_battery_pct=25,
)
STONE = Build(id=5, version="5.0.0", models=frozenset({1}), min_version="4.9", free_space_mb=90)
OLD = Build(id=4, version="5.1.4", models=frozenset({1}), min_version="5.0.0")
READY = Candidate(1, 1, "B", version_key("5.1.4"), "cellular", "admitted", False, 100, 80, False)
TO_BUILD = Change(choice=Choice.IMAGE, image=7)


def sorted_by(*changes: Change, builds: tuple[Build, ...] = (BUILD, STONE, OLD), **how: bool) -> Preflight:
    upgrades = Upgrades(builds)
    return Preflight(upgrades, ChangeTable(changes, upgrades), **how)


@pytest.mark.parametrize(
    ("change", "expected"),
    [
        ({}, Outcome.STRAIGHT),
        ({"admission": "retired"}, Outcome.RETIRED),
        ({"admission": "waiting"}, Outcome.NOT_ADMITTED),
        ({"taken_out": True}, Outcome.TAKEN_OUT),
        ({"model_id": 9}, Outcome.NO_TARGET),
        ({"hardware_revision": "A"}, Outcome.WRONG_HARDWARE),
        ({"firmware_key": None}, Outcome.NO_VERSION),
        ({"firmware_key": version_key("v5.2.1.0")}, Outcome.ALREADY),
        ({"firmware_key": version_key("5.3")}, Outcome.DOWNGRADE),
        ({"firmware_key": version_key("4.8.2")}, Outcome.NO_PATH),
        ({"firmware_key": version_key("4.9.2")}, Outcome.VIA),
        ({"firmware_key": version_key("4.9.2"), "free_space_mb": 80}, Outcome.NO_SPACE),
        ({"firmware_key": version_key("5.0.0")}, Outcome.STRAIGHT),
        ({"free_space_mb": 31.9}, Outcome.NO_SPACE),
        ({"free_space_mb": 32}, Outcome.STRAIGHT),
        ({"free_space_mb": None}, Outcome.STRAIGHT),
        ({"battery_pct": 25}, Outcome.STRAIGHT),
        ({"battery_pct": 24}, Outcome.LOW_POWER),
        ({"battery_pct": 24, "on_mains": True}, Outcome.STRAIGHT),
        ({"silent": True}, Outcome.LATE),
        ({"in_hand": True}, Outcome.PROMISED),
        ({"coming": version_key("5.3")}, Outcome.NEWER_COMING),
        ({"coming": version_key("5.2.0")}, Outcome.STRAIGHT),
        ({"coming": version_key("5.2.1"), "outranked": True}, Outcome.OUTRANKED),
        ({"frozen": True}, Outcome.FROZEN),
        ({"admission": "retired", "model_id": 9, "silent": True}, Outcome.RETIRED),
    ],
)
def test_outcomes(change: dict[str, object], expected: Outcome) -> None:
    assert sorted_by(TO_BUILD).route(READY._replace(**change)).outcome is expected  # type: ignore[arg-type]


def test_every_outcome_has_words_and_a_known_side() -> None:
    assert set(WORDS) == set(Outcome)
    assert set(Outcome) > TAKES_PART
    for outcome in Outcome:
        stays_out = outcome not in TAKES_PART | {Outcome.ALREADY, Outcome.NO_TARGET}
        assert WORDS[outcome].startswith("left out") is stays_out


def test_the_way_is_told_step_by_step() -> None:
    old = READY._replace(firmware_key=version_key("4.9.2"))
    assert [b.version for b in sorted_by(TO_BUILD).route(old).steps] == ["5.0.0", "5.2.1"]
    assert [b.version for b in sorted_by(TO_BUILD).route(READY).steps] == ["5.2.1"]


def test_a_downgrade_must_be_said() -> None:
    to_old = Change(choice=Choice.IMAGE, image=4)
    device = READY._replace(firmware_key=version_key("5.2.1"))
    assert sorted_by(to_old).route(device).outcome is Outcome.DOWNGRADE
    assert sorted_by(to_old, downgrades=True).route(device).outcome is Outcome.STRAIGHT


def test_the_narrower_row_wins_and_newest_means_what_is_for_the_device() -> None:
    check = sorted_by(
        Change(choice=Choice.NEWEST, model=1),
        Change(choice=Choice.LEAVE_OUT, model=1, uplink="satellite"),
        Change(choice=Choice.WITHIN, model=1, from_version="4.9.2", within="5.0"),
        Change(choice=Choice.LEAVE_OUT),
    )
    assert check.route(READY).steps == (BUILD,)
    assert check.route(READY._replace(hardware_revision="A")).outcome is Outcome.ALREADY  # 5.1.4 is its newest
    assert check.route(READY._replace(uplink="satellite")).outcome is Outcome.ROW_LEFT_OUT
    assert check.route(READY._replace(firmware_key=version_key("4.9.2"))).steps == (STONE,)
    assert check.route(READY._replace(model_id=9)).outcome is Outcome.ROW_LEFT_OUT


def test_newest_of_a_model_without_images_is_said() -> None:
    assert sorted_by(Change(choice=Choice.NEWEST)).route(READY._replace(model_id=9)).outcome is Outcome.NO_IMAGE


def test_putting_back_goes_to_what_each_had() -> None:
    check = Preflight(Upgrades([BUILD, STONE, OLD]), None)
    now_on_new = READY._replace(firmware_key=version_key("5.2.1"), coming=version_key("9.0"))
    assert check.route(now_on_new._replace(before=version_key("5.1.4"))).steps == (OLD,)
    assert check.route(now_on_new._replace(before=version_key("5.0.0"))).steps == (STONE,)
    assert check.route(now_on_new._replace(before=version_key("3.0"))).outcome is Outcome.NO_IMAGE
    assert check.route(now_on_new._replace(before=version_key("5.2.1"))).outcome is Outcome.ALREADY


def test_what_is_too_little_is_said_in_amounts() -> None:
    assert shortfall_words(Outcome.NO_SPACE, [Shortfall(32, 9)]) == "needs 32 MB, has 9"
    several = [Shortfall(25, 4), Shortfall(35, 19.94), Shortfall(25, 7)]
    assert shortfall_words(Outcome.LOW_POWER, several) == "need 25 to 35%, have 4 to 19.9"
    assert shortfall_words(Outcome.NO_SPACE, []) == shortfall_words(Outcome.NO_PATH, several) == ""

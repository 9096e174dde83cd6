"""`herald-ctl` against the real API: what it shows, what it does, and that nothing is done twice or unasked."""

import json
import subprocess
import sys
from collections.abc import Callable
from contextlib import redirect_stdout
from io import StringIO
from pathlib import Path
from typing import Any, NamedTuple

import httpx
import pytest
from django.test import Client
from pytest_django import Settings

from herald.fleet.models import Device
from herald.groups.models import Group
from herald.images.models import Image
from herald.people.models import User
from herald.people.tokens import make_token
from herald.rollouts.models import Rollout
from herald_core.rings.assignment import RingKind
from herald_ctl import __main__ as ctl
from herald_ctl import acting, configuring, looking, watching
from herald_ctl.api import TRIES, Api, Trouble, connect
from herald_ctl.printing import moment, safe, size
from tests.factories import (
    NOW,
    launched,
    make_devices,
    make_draft,
    make_image,
    make_model,
    make_rule_group,
    make_site,
    make_static,
    make_user,
    ring,
)

pytestmark = [pytest.mark.django_db, pytest.mark.usefixtures("fixed_time")]


class Ran(NamedTuple):
    """What a command ended with, and what it wrote."""

    code: int
    out: str
    err: str


Run = Callable[..., Ran]


@pytest.fixture
def person() -> User:
    return make_user()


@pytest.fixture
def api(person: User) -> Api:
    letters = make_token(person, name="ctl", days=None, now=NOW)[0]
    return Api("http://127.0.0.1", letters, transport=httpx.MockTransport(serve), sleep=lambda seconds: None)


def serve(request: httpx.Request) -> httpx.Response:
    """The real server's answer, within this process and the test's transaction."""
    headers = {k: v for k, v in request.headers.items() if k not in ("content-length", "content-type")}
    kind = request.headers.get("content-type", "application/octet-stream")
    path = request.url.raw_path.decode()
    client = Client(raise_request_exception=False)
    with redirect_stdout(StringIO()):  # the server's log
        answer = client.generic(request.method, path, request.content, content_type=kind, headers=headers)
    return httpx.Response(answer.status_code, headers=dict(answer.items()), content=answer.content)


@pytest.fixture
def run(api: Api, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> Run:
    """Run a command as somebody types it."""
    monkeypatch.setattr(ctl, "connect", lambda *_: api)
    monkeypatch.setenv("COLUMNS", "200")

    def typed(*words: str) -> Ran:
        monkeypatch.setattr(sys, "argv", ["herald-ctl", *words])
        with pytest.raises(SystemExit) as ended:
            ctl.main()
        written = capsys.readouterr()
        return Ran(int(ended.value.code or 0), written.out, written.err)

    return typed


def told(ran: Ran) -> Any:
    assert ran.code == 0, ran.err
    return json.loads(ran.out)


@pytest.fixture
def draft() -> Rollout:
    group = make_static("Field gateways", make_devices(12, firmware="5.0.0"))
    return make_draft(group, rings=[ring("Trial", RingKind.NUMBER, number=2), ring("All others")])


# -- looking ---------------------------------------------------------------------------------------


def test_every_kind_is_listed_and_shown_in_words_and_as_json(run: Run, draft: Rollout) -> None:
    device = Device.objects.first()
    assert device is not None
    make_rule_group("By rule", "tag = x\nor tag = y")
    for kind in looking.KINDS:
        listed = run("list", kind)
        assert (listed.code, listed.err) == (0, "") and listed.out
        assert isinstance(told(run("list", kind, "--json")), list)
    for kind, word, said in (
        ("device", device.uid, device.name),
        ("group", "field gateways", "12"),
        ("image", "Sill 5.2.1", "approved"),
        ("rollout", str(draft.pk), "All others"),
    ):
        shown = run("show", kind, word)
        assert shown.code == 0 and said in shown.out, shown
        assert told(run("show", kind, word, "--json"))["id"]
    assert "tag = x or tag = y" in run("list", "groups").out
    assert {k.value for k in ctl.ListKind} == set(looking.KINDS)
    assert {k.value for k in ctl.ShowKind} == set(looking.SHOWN)


def test_a_list_is_narrowed_down_and_says_when_there_is_more(run: Run) -> None:
    for n in range(3):
        make_rule_group(f"Lab {n}", "tag = lab")
    make_rule_group("Field", "tag = field")
    make_devices(5, tags=["lab"])
    make_devices(2)
    assert len(told(run("list", "groups", "--search", "LAB", "--json"))) == 3
    assert "The first 2" in run("list", "groups", "--limit", "2").out
    devices = told(run("list", "devices", "--rule", "tag = lab", "--limit", "4", "--json"))
    assert len(devices) == 4 and all(d["tags"] == ["lab"] for d in devices)
    assert run("list", "groups", "--search", "nowhere").out == "No groups found.\n"
    assert run("list", "schedules").out == "There are no schedules.\n"
    assert "--rule is for devices" in run("list", "groups", "--rule", "tag = lab").err


def test_all_pages_of_a_list_are_asked_for(api: Api) -> None:
    make_devices(7)
    assert len(list(api.pages("devices", "devices", limit=3))) == 7


def test_a_preview_counts_and_names_devices(run: Run) -> None:
    make_devices(3, tags=["lab"])
    make_devices(2)
    shown = run("preview", "tag = lab", "--limit", "1")
    assert "3 of 5 devices" in shown.out and "and 2 more" in shown.out
    assert told(run("preview", "tag = lab", "--json"))["count"] == 3
    wrong = run("preview", "tag =")
    assert wrong.code == 1 and wrong.out == "" and "Line 1" in wrong.err


def test_what_devices_say_is_never_taken_as_a_command(run: Run) -> None:
    """A terminal that is told to by a device's name would write what the device likes."""
    make_site("Here\x1b[2J\x1b]0;gone\x07\x9b31m[red]\u202eereh")
    listed = run("list", "sites")
    assert "[red]" in listed.out and not set(listed.out) & {"\x1b", "\x07", "\x9b", "\u202e"}
    unknown = run("show", "group", "\x1b[2J")
    assert unknown.code == 1 and "\x1b" not in unknown.err
    assert safe("a\tb\nc\rd") == "a b c�d" and safe(None) == ""


def test_numbers_and_moments_are_written_as_everywhere() -> None:
    assert moment("2026-11-28T05:30:00+02:00") == "Sat 28 Nov 2026 03:30 UTC" and moment(None) == ""
    assert [size(n) for n in (0, 999, 1500, 20_971_520, 123_456_789, 2_000_000_000)] == [
        "0 B",
        "999 B",
        "1.5 kB",
        "21.0 MB",
        "123 MB",
        "2.0 GB",
    ]


# -- names -----------------------------------------------------------------------------------------


def test_two_of_a_name_are_told_apart_by_their_ids(run: Run) -> None:
    group, image = make_static("G", make_devices(1)), make_image()
    drafts = [make_draft(group, image, name="Winter") for _ in range(2)]
    refused = run("show", "rollout", "winter")
    assert refused.code == 1 and all(str(d.pk) in refused.err for d in drafts)
    assert "no rollout “Summer”" in run("show", "rollout", "Summer").err
    # a name that looks like an id is found where no such id is
    make_rule_group("8080", "tag = x")
    assert told(run("show", "group", "8080", "--json"))["name"] == "8080"


# -- acting ----------------------------------------------------------------------------------------


def test_a_launch_says_whom_it_reaches_and_wants_the_number(run: Run, draft: Rollout) -> None:
    asked = run("launch", str(draft.pk))
    assert asked.code == 1 and "reaches 12 devices of 12" in asked.out and "--devices 12" in asked.err
    wrong = run("launch", str(draft.pk), "--devices", "3")
    assert wrong.code == 1 and "12 devices" in wrong.err
    draft.refresh_from_db()
    assert draft.state == "draft"
    assert "herald-ctl watch" in run("launch", str(draft.pk), "--devices", "12").out
    draft.refresh_from_db()
    assert draft.state == "launching"
    assert "is no draft" in run("launch", str(draft.pk), "--devices", "12").err


def test_at_a_terminal_the_number_is_typed(run: Run, draft: Rollout, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(sys.stdin, "isatty", lambda: True, raising=False)
    monkeypatch.setattr(acting.typer, "prompt", lambda question, type: 12)
    assert run("launch", str(draft.pk)).code == 0


def test_stepping_in_says_its_consequence_first(run: Run, draft: Rollout, monkeypatch: pytest.MonkeyPatch) -> None:
    launched(draft)
    word = str(draft.pk)
    assert f"Rollout {word} of Sill 5.2.1: paused." in run("pause", word).out
    assert "goes on with 12 devices" in run("resume", word).err
    asked = run("stop", word)
    assert asked.code == 1 and "ends for good: 12 devices that have not begun, 0 that finish" in asked.err
    draft.refresh_from_db()
    assert draft.state == "paused"
    monkeypatch.setattr(sys.stdin, "isatty", lambda: True, raising=False)
    monkeypatch.setattr(acting.typer, "confirm", lambda question: False)
    assert run("stop", word).code == 2
    draft.refresh_from_db()
    assert draft.state == "paused"
    assert "12 devices withdrawn" in run("stop", word, "--yes").out
    draft.refresh_from_db()
    assert draft.state == "stopped"


def test_a_gate_is_opened_by_whoever_may(run: Run, draft: Rollout, person: User) -> None:
    launched(draft)
    refused = run("open-gate", str(draft.pk), "--yes")
    assert refused.code == 1 and "approver" in refused.err


def test_an_image_is_sent_in_pieces_and_compared(run: Run, tmp_path: Path, settings: Settings) -> None:
    settings.IMAGES_DIR = tmp_path / "images"
    make_model("Sill 400")
    file = tmp_path / "sill.bin"
    file.write_bytes(bytes(range(256)) * 4 * 9000)  # more than one piece
    added = run("image", "add", str(file), "--firmware", "6.0.0", "--model", "Sill 400")
    assert added.code == 0, added.err
    image = Image.objects.get()
    assert image.version == "6.0.0" and image.size_bytes == 9_216_000 and f"image {image.pk}" in added.out
    unknown = run("image", "add", str(file), "--firmware", "6.0.1", "--model", "Nope")
    assert unknown.code == 1 and "There is none called “Nope”" in unknown.err
    assert "cannot be read" in run("image", "add", str(tmp_path / "none"), "--firmware", "1", "--model", "x").err


# -- watching --------------------------------------------------------------------------------------


@pytest.fixture
def at_once(monkeypatch: pytest.MonkeyPatch) -> list[Callable[[], None]]:
    """Nothing is waited for: before each question one of these is done."""
    acts: list[Callable[[], None]] = []
    monkeypatch.setattr(watching._Changes, "start", lambda self: None)
    monkeypatch.setattr(watching, "LATEST", watching.SOONEST)
    monkeypatch.setattr(watching.time, "sleep", lambda seconds: acts.pop(0)())
    return acts


def test_a_rollout_is_watched_to_its_end(run: Run, draft: Rollout, at_once: list[Any]) -> None:
    assert "herald-ctl launch" in run("watch", str(draft.pk)).err
    launched(draft)

    def confirm_all() -> None:
        draft.deliveries.update(phase="confirmed")

    def finish() -> None:
        Rollout.objects.filter(pk=draft.pk).update(state="finished", ended_at=NOW)

    at_once += [lambda: None, confirm_all, finish]
    watched = run("watch", str(draft.pk))
    lines = watched.out.splitlines()
    assert watched.code == 0, watched.err
    # what is the same is not said again
    assert [line.split(" of ")[0] for line in lines] == ["0", "12", "12"], lines


def test_a_rollout_that_halts_ends_the_watch_with_three(run: Run, draft: Rollout, at_once: list[Any]) -> None:
    launched(draft)

    def halt() -> None:
        Rollout.objects.filter(pk=draft.pk).update(state="halted", reason="5 of 5 tried failed")

    at_once += [halt]
    watched = run("watch", str(draft.pk), "--json")
    said = [json.loads(line) for line in watched.out.splitlines()]
    assert watched.code == 3 and [s["state"] for s in said] == ["running", "halted"]
    assert said[-1]["reason"] == "5 of 5 tried failed"


def test_a_server_that_is_away_does_not_end_the_watch(
    run: Run, api: Api, draft: Rollout, at_once: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    launched(draft)
    transport = api.http._transport

    def lose() -> None:
        monkeypatch.setattr(api.http, "_transport", httpx.MockTransport(refuse))

    def refuse(request: httpx.Request) -> httpx.Response:
        raise httpx.ConnectError("refused")

    def find_again() -> None:
        monkeypatch.setattr(api.http, "_transport", transport)
        Rollout.objects.filter(pk=draft.pk).update(state="finished", ended_at=NOW)

    at_once += [lose, find_again]
    assert run("watch", str(draft.pk)).code == 0


def test_the_picture_has_a_bar_for_each_ring_and_says_when_it_is_old(
    api: Api, draft: Rollout, capsys: pytest.CaptureFixture[str]
) -> None:
    launched(draft)
    out = watching.Output(as_json=False)
    out.console.print(watching.picture(api.get(f"rollouts/{draft.pk}"), "the server does not answer"))
    drawn = capsys.readouterr().out
    assert "Trial" in drawn and "0 of 2 confirmed" in drawn and "0 of 10 confirmed" in drawn
    assert "What is shown is old. the server does not answer" in drawn


# -- the way there ---------------------------------------------------------------------------------


def test_an_answer_that_is_lost_is_asked_for_again_and_nothing_is_done_twice(api: Api) -> None:
    """The server carries it out, and the link breaks before the answer is there."""
    lost, keys = [], []

    def handle(request: httpx.Request) -> httpx.Response:
        keys.append(request.headers.get("Idempotency-Key"))
        answer = serve(request)
        if len(lost) < 2:
            lost.append(answer.status_code)
            raise httpx.ReadError("the link broke")
        return answer

    api.http._transport = httpx.MockTransport(handle)
    made = api.post("groups", {"name": "Once", "rule": "tag = x"})
    assert lost == [201, 201] and Group.objects.get().pk == made["id"]
    assert len(set(keys)) == 1 and keys[0]
    api.post("groups", {"name": "Another", "rule": "tag = x"})
    assert keys[-1] != keys[0]


@pytest.mark.parametrize(("status", "headers"), [(503, {}), (502, {}), (429, {"Retry-After": "7"})])
def test_it_waits_as_it_is_told_and_then_tells(status: int, headers: dict[str, str]) -> None:
    waits: list[float] = []
    transport = httpx.MockTransport(lambda request: httpx.Response(status, headers=headers))
    api = Api("http://127.0.0.1", "x", transport=transport, sleep=waits.append)
    with pytest.raises(Trouble, match=str(status)):
        api.get("groups")
    assert len(waits) == TRIES - 1
    assert set(waits) == {7.0} if headers else waits == sorted(set(waits))


def test_what_is_refused_is_not_tried_again_and_said_with_its_place(run: Run) -> None:
    asked = []

    def handle(request: httpx.Request) -> httpx.Response:
        asked.append(request)
        errors = [{"pointer": "/name", "message": "Too long."}, {"pointer": "/rule", "message": "Wrong."}]
        said = {"type": "urn:brisk-herald:problem:invalid", "detail": "Too long.", "errors": errors}
        return httpx.Response(422, json=said, headers={"Content-Type": "application/problem+json"})

    with pytest.raises(Trouble) as trouble:
        Api("http://127.0.0.1", "x", transport=httpx.MockTransport(handle)).post("groups", {})
    assert str(trouble.value) == "Too long.\n  /rule: Wrong." and trouble.value.code == "invalid" and len(asked) == 1


def test_an_address_and_a_token_are_wanted_in_words(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    for name in ("HERALD_URL", "HERALD_TOKEN", "HERALD_TOKEN_FILE"):
        monkeypatch.delenv(name, raising=False)
    for url in (None, "herald.example.com", "ftp://x"):
        with pytest.raises(Trouble, match="HERALD_URL"):
            connect(url, None)
    with pytest.raises(Trouble, match="Give a token"):
        connect("https://herald.example.com", None)
    with pytest.raises(Trouble, match="cannot be read"):
        connect("https://herald.example.com", tmp_path / "none")
    (tmp_path / "token").write_text("letters\n")
    monkeypatch.setenv("HERALD_TOKEN_FILE", str(tmp_path / "token"))
    assert connect("https://herald.example.com/", None).http.headers["Authorization"] == "Bearer letters"


def test_a_person_without_a_role_is_told_so(run: Run, person: User, draft: Rollout) -> None:
    User.objects.filter(pk=person.pk).update(role="viewer")
    refused = run("launch", str(draft.pk), "--devices", "12")
    assert refused.code == 1 and "viewer" in refused.err


# -- configuration as files ------------------------------------------------------------------------


def test_configuration_goes_out_into_files_and_nothing_differs(run: Run, tmp_path: Path) -> None:
    make_site("Crow Hill")
    make_rule_group("Lab", "tag = lab\nand tag = yard")
    folder = tmp_path / "configuration"
    written = run("export", str(folder))
    assert written.code == 0, written.err
    assert {p.name for p in folder.iterdir()} == {"groups.yaml", "sites.yaml"}
    # as a person reads and changes it
    assert (folder / "groups.yaml").read_text() == (
        "herald: 1\nkind: groups\nthings:\n- name: Lab\n  rule: |-\n    tag = lab\n    and tag = yard\n"
    )
    same = run("diff", str(folder))
    assert (same.code, same.out) == (0, "All is as the files say.\n")
    Group.objects.all().delete()
    run("export", str(folder))
    assert not (folder / "groups.yaml").exists(), "what is no more leaves no file behind"


def test_files_are_compared_agreed_to_and_applied(run: Run, tmp_path: Path) -> None:
    make_devices(3, tags=["lab"])
    make_rule_group("Lab", "tag = nowhere")
    make_rule_group("Other", "tag = x")
    (tmp_path / "groups.yaml").write_text(
        "herald: 1\nkind: groups\nthings:\n- name: Lab\n  rule: tag = lab\n- {name: New, rule: tag = y}\n"
    )
    different = run("diff", str(tmp_path))
    assert different.code == 3
    for line in (
        "~ groups: Lab",
        "    rule: tag = nowhere → tag = lab",
        "+ groups: New",
        "groups in no file, which stay (1): Other",
        "“Lab”: 3 devices join, 0 leave",
    ):
        assert line in different.out, different.out
    digest = different.out.split("--digest '")[1].split("'")[0]
    unasked = run("apply", str(tmp_path))
    assert unasked.code == 1 and digest in unasked.err and not Group.objects.filter(name="New").exists()
    applied = run("apply", str(tmp_path), "--digest", digest, "--revision", "4f2a1c9")
    assert applied.code == 0 and "Done: 1 added, 1 changed." in applied.out, applied.err
    assert Group.objects.get(name="Lab").memberships.count() == 3
    again = run("apply", str(tmp_path), "--digest", digest)
    assert again.code == 1 and "compare again" in again.err
    gone = run("diff", str(tmp_path), "--delete")
    assert gone.code == 3 and "- groups: Other" in gone.out


def test_at_a_terminal_files_are_shown_and_asked_about(
    run: Run, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "groups.json").write_text(
        json.dumps({"herald": 1, "kind": "groups", "things": [{"name": "New", "rule": "tag = y"}]})
    )
    monkeypatch.setattr(sys.stdin, "isatty", lambda: True, raising=False)
    monkeypatch.setattr(configuring.typer, "confirm", lambda question: False)
    assert run("apply", str(tmp_path)).code == 2 and not Group.objects.exists()
    monkeypatch.setattr(configuring.typer, "confirm", lambda question: True)
    assert run("apply", str(tmp_path)).code == 0 and Group.objects.exists()
    assert "All is as the files say." in run("apply", str(tmp_path)).out


def test_what_is_wrong_in_a_file_is_told_by_its_name_and_place(run: Run, tmp_path: Path) -> None:
    assert "There are no files" in run("diff", str(tmp_path)).err
    (tmp_path / "a.yaml").write_text("herald: 1\nkind: groups\nthings:\n- {name: Good, rule: tag = x}\n")
    second = tmp_path / "b.yaml"
    second.write_text("herald: 1\nkind: groups\nthings:\n- {name: Fine, rule: tag = x}\n- {name: Bad, rule: tag =}\n")
    refused = run("diff", str(tmp_path))
    assert refused.code == 1 and "b.yaml, thing 2, rule: The group “Bad”: Line 1" in refused.err
    for text, words in (
        ("herald: [", "cannot be read"),
        ("just words", "must say herald"),
        ("herald: 2\nkind: groups\nthings: []\n", "of form 2"),
        ("!!python/object/apply:os.system ['true']", "cannot be read"),
    ):
        second.write_text(text)
        assert words in run("diff", str(tmp_path)).err


def test_moments_and_times_may_stand_in_files_without_quotes(run: Run, tmp_path: Path) -> None:
    (tmp_path / "freezes.yaml").write_text(
        "herald: 1\nkind: freezes\nthings:\n- name: Harvest\n  starts_at: 2027-08-01T00:00:00Z\n"
        "  ends_at: 2027-09-01T00:00:00Z\n  everywhere: true\n"
    )
    assert run("diff", str(tmp_path)).code == 3
    # nor is a time of day a number to base sixty, as it is to YAML
    make_static("Zeta", make_devices(2))
    (tmp_path / "schedules.yaml").write_text(
        "herald: 1\nkind: schedules\nthings:\n- name: Nightly\n  template: Restart\n  include: [Zeta]\n"
        "  starts_on: 2026-12-24\n  time_of_day: 10:30\n  rule: FREQ=DAILY\n  spread_minutes: 10\n"
    )
    different = run("diff", str(tmp_path))
    assert "“Nightly” fires next" in different.out and "10:30 UTC, now for 2 devices" in different.out, different


def test_the_revision_is_what_git_says(tmp_path: Path) -> None:
    assert configuring._revision(tmp_path / "nowhere") == ""
    subprocess.run(["git", "init", "-q", str(tmp_path)], check=True)
    commit = ["-c", "user.name=N", "-c", "user.email=n@example.com", "commit", "-q", "--allow-empty", "-m", "m"]
    subprocess.run(["git", "-C", str(tmp_path), *commit], check=True)
    assert len(configuring._revision(tmp_path)) >= 7

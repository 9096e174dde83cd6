"""Four eyes means two people: roles that act and roles that agree are apart, call by call, and nobody agrees with
themselves."""

from datetime import date, time
from pathlib import Path
from typing import Any

import pytest
from django.db import IntegrityError, transaction
from django.test import RequestFactory
from django.urls import URLPattern, get_resolver
from rest_framework.test import APIClient

from herald.calendar.services import FreezeDraft, save_freeze
from herald.commands.compose import ScheduleDraft, create_schedule
from herald.commands.models import When
from herald.http.errors import Conflict
from herald.people.addresses import client_address
from herald.people.models import ABILITIES, Ability, Role
from herald.people.permissions import RolePermission, ability_needed, open_within_limits
from herald.people.throttling import FREE_OF_ACCOUNT, FREE_OF_ADDRESS, note_failure, note_success, wait_before
from herald.record.models import RecordEntry
from herald.rollouts.compose import drafts
from herald.rollouts.engine.tick import tick_rollouts
from herald.rollouts.intervene import lifecycle
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald.time import clock
from herald_core.rings.assignment import RingKind
from tests.factories import NOW, make_devices, make_draft, make_image, make_static, make_user, restart, ring

pytestmark = pytest.mark.django_db
ROOT = Path(__file__).parents[2]
WRITES = ("post", "put", "patch", "delete")


def _views() -> dict[str, Any]:
    """The view of every call, by its address."""
    found = {}
    for pattern in get_resolver().url_patterns:
        view = getattr(pattern.callback, "view_class", None) if isinstance(pattern, URLPattern) else None
        if view is not None and str(pattern.pattern).startswith("api/v1/"):
            found[str(pattern.pattern).removeprefix("api/v1/")] = view
    return found


def writes() -> list[tuple[str, str, Ability]]:
    """Address, method and ability of every call that changes something."""
    return sorted(
        (path, method.upper(), ability_needed(view))
        for path, view in _views().items()
        if not getattr(view, "changes_nothing", False)
        for method in WRITES
        if hasattr(view, method)
    )


def test_approving_policy_and_keys_are_apart_from_operating() -> None:
    holders = {a: {r for r, has in ABILITIES.items() if a in has} for a in Ability}
    assert holders[Ability.OPERATE] == {Role.OPERATOR}
    assert holders[Ability.APPROVE] == {Role.APPROVER}
    assert holders[Ability.ADMINISTER] == {Role.ADMINISTRATOR}
    assert Role.VIEWER not in holders[Ability.STOP]
    needed = {(path, method): a for path, method, a in writes()}
    approve = {path for (path, _), a in needed.items() if a is Ability.APPROVE}
    assert approve == {
        "images/<int:image_id>/approve",
        "rollouts/<int:rollout_id>/approve-gate",
        "rollouts/<int:rollout_id>/approve-override",
        "rollouts/<int:rollout_id>/open-gate",
        "schedules/<int:schedule_id>/approve",
    }
    administer = {path for (path, _), a in needed.items() if a is Ability.ADMINISTER}
    assert administer == {
        "admissions/let-in-again",
        "channels",
        "channels/<int:channel_id>",
        "channels/<int:channel_id>/test",
        "devices/<str:device>/removal",
        "devices/<str:device>/secret/issue",
        "enrolment-codes",
        "enrolment-codes/<int:code_id>",
        "models/<int:pk>/approval-policy",
        "notifications",
        "notifications/<int:rule_id>",
        "own/stand-in",
        "people/<int:user_id>",
        "people/<int:user_id>/limits",
        "people/<int:user_id>/new-link",
        "people/<int:user_id>/second-factor/reset",
        "people/disable",
        "people/enable",
        "people/invitations",
        "people/invitations/<int:invitation_id>",
        "people/remove",
        "people/second-factor-wanted",
        "retention/<str:key>",
        "signing-keys",
        "signing-keys/<str:kid>",
    }


def test_the_table_in_the_docs_is_what_is_enforced() -> None:
    rows = [f"| `{method} {path}` | {', '.join(_roles(a))} | {_within(path, method)} |" for path, method, a in writes()]
    closed = [f"`{path}`" for path in readings() if _within(path, "GET") == "no"]
    docs = (ROOT / "docs" / "roles.md").read_text()
    assert "\n".join(rows) in docs
    assert f"cannot read {', '.join(closed)}." in docs.replace("\n", " ")


def readings() -> list[str]:
    """Address of every call that only reads."""
    return sorted(path for path, view in _views().items() if hasattr(view, "get"))


def _within(path: str, method: str) -> str:
    """Whether a call is open to people who are limited to some devices."""
    view = _views()[path]
    signs_in = RolePermission not in view.permission_classes
    return "yes" if signs_in or method in open_within_limits(view) else "no"


def _roles(ability: Ability) -> list[str]:
    return [role.value for role in Role if ability in ABILITIES[role]]


@pytest.mark.parametrize("role", list(Role))
def test_each_role_reaches_its_own_calls_and_no_others(role: Role) -> None:
    client = APIClient(raise_request_exception=False)
    client.force_authenticate(make_user(role))
    with clock.fixed(NOW):
        for path, method, ability in writes():
            if path in ("session", "welcome/<str:secret>"):  # for whoever is not signed in
                continue
            address = path
            for part, value in (
                ("<int:", "987654"),
                ("<uuid:", "0" * 8 + "-0000-0000-0000-" + "0" * 12),
                ("<str:", "x"),
                ("<slug:", "x"),
            ):
                while part in address:
                    start = address.index(part)
                    address = address[:start] + value + address[address.index(">", start) + 1 :]
            answer = client.generic(method, f"/api/v1/{address}", "{}", content_type="application/json")
            assert (answer.status_code == 403) == (ability not in ABILITIES[role]), (role, method, path, answer.content)
            assert answer.status_code < 500, (method, path, answer.content)


# -- nobody agrees with themselves


def launched_by(user: Any, **fields: Any) -> Rollout:
    draft = make_draft(make_static("G", make_devices(4)), **fields)
    launching.request_launch(draft, expected=4, actor=user, now=NOW)
    launching.launch(draft, now=NOW)
    draft.refresh_from_db()
    return draft


def test_who_launched_opens_no_gate_by_hand() -> None:
    launcher, other = make_user("operator"), make_user("approver")
    rollout = launched_by(launcher, rings=[ring("A", RingKind.NUMBER, number=1), ring("B")])
    tick_rollouts(now=NOW)
    with pytest.raises(Conflict):
        lifecycle.open_gate(rollout, actor=launcher, now=NOW)
    assert lifecycle.open_gate(rollout, actor=other, now=NOW).position == 1


def overriding(user: Any) -> Rollout:
    group = make_static("G", make_devices(1))
    draft = FreezeDraft(name="F", starts_at=NOW, ends_at=NOW.replace(year=2027), everywhere=True)
    save_freeze(draft, actor=None, now=NOW)
    body = drafts.RolloutDraft(
        changes=drafts.to(make_image()), include=[group], rings=[ring()], freeze_override_reason="A leak"
    )
    return drafts.save_draft(body, actor=user, now=NOW)


def test_an_override_of_freezes_holds_only_once_somebody_else_agreed() -> None:
    operator, approver = make_user("operator"), make_user("approver")
    rollout = overriding(operator)
    launching.request_launch(rollout, expected=1, actor=operator, now=NOW)
    launching.launch(rollout, now=NOW)
    tick_rollouts(now=NOW)
    assert rollout.deliveries.get().phase == "waiting"
    with pytest.raises(Conflict):
        lifecycle.approve_override(rollout, actor=operator, now=NOW)
    lifecycle.approve_override(rollout, actor=approver, now=NOW)
    tick_rollouts(now=NOW)
    assert rollout.deliveries.get().phase == "offered"
    with pytest.raises(Conflict):
        lifecycle.approve_override(rollout, actor=approver, now=NOW)


def test_another_reason_needs_another_approval_and_the_database_wants_two_people() -> None:
    operator, approver = make_user("operator"), make_user("approver")
    rollout = overriding(operator)
    lifecycle.approve_override(rollout, actor=approver, now=NOW)
    body = drafts.RolloutDraft(
        changes=drafts.to(make_image("5.2.2", b"x")), include=[], rings=[ring()], freeze_override_reason="Another"
    )
    drafts.save_draft(body, actor=operator, now=NOW, rollout=rollout)
    rollout.refresh_from_db()
    assert rollout.ignores_freezes is False
    with pytest.raises(IntegrityError), transaction.atomic():
        Rollout.objects.update(override_approved_by=operator)


# -- signing in


def test_failures_slow_an_account_at_an_address_and_nobody_else() -> None:
    for _ in range(FREE_OF_ACCOUNT):
        assert wait_before("a@example.com", "10.0.0.1").total_seconds() == 0
        note_failure("a@example.com", "10.0.0.1")
    assert 0 < wait_before("a@example.com", "10.0.0.1").total_seconds() <= 1
    assert wait_before("a@example.com", "10.0.0.2").total_seconds() == 0  # the person on call is not shut out
    assert wait_before("b@example.com", "10.0.0.1").total_seconds() == 0
    for _ in range(20):
        note_failure("a@example.com", "10.0.0.1")
    assert 50 < wait_before("a@example.com", "10.0.0.1").total_seconds() <= 60
    note_success("a@example.com", "10.0.0.1")
    assert wait_before("a@example.com", "10.0.0.1").total_seconds() == 0


def test_an_address_that_tries_many_accounts_is_slowed_too() -> None:
    for n in range(FREE_OF_ADDRESS + 4):
        note_failure(f"u{n}@example.com", "10.0.0.1")
    assert wait_before("new@example.com", "10.0.0.1").total_seconds() > 0


def sign_in(client: APIClient, password: str, **headers: Any) -> Any:
    return client.post("/api/v1/session", {"email": "a@example.com", "password": password}, format="json", **headers)


@pytest.mark.usefixtures("long_waits")
def test_a_header_that_changes_is_no_other_address() -> None:
    client = APIClient()
    statuses = [sign_in(client, "wrong", HTTP_X_FORWARDED_FOR=f"1.2.3.{n}").status_code for n in range(8)]
    assert statuses[:FREE_OF_ACCOUNT] == [401] * FREE_OF_ACCOUNT and statuses[-1] == 429


def test_a_trusted_proxy_tells_the_address_and_its_own_lies_are_not_believed(settings: Any) -> None:
    def address(forwarded: str, remote: str = "192.0.2.9") -> str:
        return client_address(RequestFactory().get("/", REMOTE_ADDR=remote, HTTP_X_FORWARDED_FOR=forwarded))

    assert address("203.0.113.5") == "192.0.2.9"
    settings.TRUSTED_PROXIES = ["192.0.2.0/24"]
    assert address("203.0.113.5") == "203.0.113.5"
    assert address("10.9.9.9, 203.0.113.5") == "203.0.113.5"  # the client put the first there itself
    assert address("203.0.113.5, 192.0.2.8") == "203.0.113.5"
    assert address("") == "192.0.2.9"


def test_sign_ins_and_tokens_are_on_record() -> None:
    user = make_user("viewer")
    client = APIClient()
    client.post("/api/v1/session", {"email": user.email, "password": "a-long-password"}, format="json")
    made = client.post("/api/v1/tokens", {"name": "night report", "days": 7}, format="json")
    assert made.status_code == 201
    (row,) = client.get("/api/v1/tokens").json()
    assert row["name"] == "night report" and row["expires_at"] is not None
    script = APIClient()
    script.credentials(HTTP_AUTHORIZATION=f"Bearer {made.json()['token']}")
    assert script.get("/api/v1/groups").status_code == 200
    assert client.delete(f"/api/v1/tokens/{row['id']}").status_code == 204
    assert script.get("/api/v1/groups").status_code == 401
    client.delete("/api/v1/session")
    sentences = list(RecordEntry.objects.filter(actor=user).order_by("id").values_list("sentence", flat=True))
    assert [s.split(" “")[0].split(" from")[0] for s in sentences] == [
        "Signed in",
        "Made the token",
        "Revoked the token",
        "Signed out",
    ]


def test_nobody_sees_or_revokes_the_tokens_of_others() -> None:
    mine, other = APIClient(), APIClient()
    mine.force_authenticate(make_user("operator"))
    other.force_authenticate(make_user("administrator"))
    mine.post("/api/v1/tokens", {"name": "x"}, format="json")
    (row,) = mine.get("/api/v1/tokens").json()
    assert other.get("/api/v1/tokens").json() == []
    assert other.delete(f"/api/v1/tokens/{row['id']}").status_code == 404


# -- comments


@pytest.mark.parametrize("thing", ["rollouts", "schedules"])
def test_comments_are_kept_in_order_and_on_record(thing: str) -> None:
    client, author = APIClient(), make_user("approver")
    client.force_authenticate(author)
    group = make_static("G", make_devices(1))
    about = make_draft(group).pk if thing == "rollouts" else make_schedule(group)
    path = f"/api/v1/{thing}/{about}/comments"
    assert client.get(path).json() == []
    with clock.fixed(NOW):
        for text in ("Waits for the crew.", "  They are back.  "):
            made = client.post(path, {"text": text}, format="json")
            assert made.status_code == 201 and made.json()["author"] == author.name
    assert [c["text"] for c in client.get(path).json()] == ["They are back.", "Waits for the crew."]
    assert RecordEntry.objects.latest("pk").sentence == "Commented: They are back."
    for text in ("", "   ", "x" * 2001, None):
        assert client.post(path, {"text": text}, format="json").status_code in (400, 422)
    other = "schedules" if thing == "rollouts" else "rollouts"
    assert client.get(f"/api/v1/{other}/{about}/comments").status_code == 404
    client.force_authenticate(make_user("viewer"))
    assert client.post(path, {"text": "Me too"}, format="json").status_code == 403
    assert len(client.get(path).json()) == 2


def make_schedule(group: Any) -> int:
    draft = ScheduleDraft(
        template=restart(), include=[group], when=When.ONCE, starts_on=date(2031, 1, 1), time_of_day=time(5)
    )
    return int(create_schedule(draft, actor=None, now=NOW).pk)

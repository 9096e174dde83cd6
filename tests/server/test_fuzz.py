"""Whatever is sent, the API answers with problem details and never breaks."""

import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from rest_framework.test import APIClient

from herald.groups.models import Group
from herald.rollouts.models import Rollout
from herald.time import clock
from tests.factories import NOW, make_devices, make_draft, make_rule_group, make_static, make_user

pytestmark = pytest.mark.django_db
V1 = "/api/v1"

leaves = st.one_of(
    st.none(),
    st.booleans(),
    st.integers(-(2**70), 2**70),
    st.floats(allow_nan=False, allow_infinity=False),
    st.sampled_from(["", "x", "tag = lab", "everything", "05:30", "2026-11-23", "\x00", "é" * 90, "now", "rest", "🙂"]),
    st.text(max_size=20).filter(lambda t: not any(0xD800 <= ord(c) <= 0xDFFF for c in t)),
)
values = st.recursive(
    leaves,
    lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=5), inner, max_size=3)),
    max_leaves=6,
)
FIELDS = {
    "rules/preview": ("rule", "limit", "group"),
    "rules/explain": ("rule", "device"),
    "groups": ("name", "kind", "rule", "note", "folder_id", "devices"),
    "rollouts": (
        "changes",
        "include",
        "exclude",
        "rings",
        "window_start",
        "max_concurrent",
        "starts_at",
        "failure_limit_pct",
    ),
    "schedules": ("include", "when", "time_of_day", "spread_minutes", "expires_after_minutes", "until", "starts_on"),
    "schedules/preview": ("include", "when", "time_of_day", "starts_on", "until", "spread_minutes"),
    "session": ("email", "password"),
}


@pytest.fixture
def world() -> tuple[APIClient, Group, Rollout]:
    group = make_static("G", make_devices(3, tags=["lab"]))
    make_rule_group("R", "tag = lab")
    client = APIClient(raise_request_exception=False)
    client.force_authenticate(make_user())
    return client, group, make_draft(group)


def check(response: Any, sent: Any) -> None:
    assert response.status_code < 500, (response.status_code, sent)
    if response.status_code >= 400:
        body = response.json()
        assert body["status"] == response.status_code and body["title"] and body["detail"], sent


@settings(max_examples=150)
@given(data=st.data())
def test_any_body_is_answered(world: tuple[APIClient, Group, Rollout], data: st.DataObject) -> None:
    client, group, rollout = world
    path = data.draw(st.sampled_from(sorted(FIELDS)))
    good = {
        "include": [group.pk],
        "changes": [{"choice": "image", "image_id": rollout.changes.get().image_id}],
        "when": "now",
        "time_of_day": "05:30",
        "rule": "tag = lab",
    }
    names = FIELDS[path]
    sent = {n: v for n, v in good.items() if n in names and data.draw(st.booleans())}
    sent |= data.draw(st.dictionaries(st.sampled_from(names), values, max_size=4))
    with clock.fixed(NOW):
        check(client.post(f"{V1}/{path}", json.dumps(sent), content_type="application/json"), (path, sent))


@settings(max_examples=80)
@given(
    path=st.sampled_from(["devices", "fields/tag/values", "record", "rollouts/{r}/deliveries", "groups/{g}/members"]),
    query=st.dictionaries(
        st.sampled_from(["rule", "q", "cursor", "limit", "ring", "phase", "error", "contains", "before"]),
        st.one_of(st.text(max_size=12), st.integers().map(str)),
        max_size=4,
    ),
)
def test_any_query_is_answered(world: tuple[APIClient, Group, Rollout], path: str, query: dict[str, str]) -> None:
    client, group, rollout = world
    query = {k: v.encode("utf-8", "replace").decode() for k, v in query.items()}
    with clock.fixed(NOW):
        check(client.get(f"{V1}/{path.format(r=rollout.pk, g=group.pk)}", query), query)


def test_a_reader_stays_a_reader(world: tuple[APIClient, Group, Rollout]) -> None:
    _, group, rollout = world
    reader = APIClient()
    reader.force_authenticate(make_user("viewer"))
    paths = (
        f"groups/{group.pk}/members",
        f"rollouts/{rollout.pk}/launch",
        f"rollouts/{rollout.pk}/pause",
        "schedules",
        "rollouts",
    )
    assert {reader.post(f"{V1}/{p}", {}, format="json").status_code for p in paths} == {403}
    assert reader.patch(f"{V1}/groups/{group.pk}", {"name": "X"}, format="json").status_code == 403
    assert reader.delete(f"{V1}/rollouts/{rollout.pk}").status_code == 403

"""What limits cost: the main requests of somebody who sees a third of 100,000 devices, and of somebody who sees all."""

import json
from datetime import UTC, datetime
from typing import Any

from django.test import Client

from bench.results import emit, p95, times_ms
from bench.world import ensure_world
from herald.fleet.models import Device
from herald.groups.models import Folder, Group, GroupKind
from herald.groups.services import create_group
from herald.limits.services import limit_person, reach_of, read_limits
from herald.memory import settle_memory
from herald.people.models import User

GROUPS, OF_EACH, TIMES = 30, 1_000, 10
RULE = 'family = Sill and presence = "on time" and firmware < 5.2.0'
#: the requests of the main views: their name, address, and what is sent
CALLS: tuple[tuple[str, str, Any], ...] = (
    ("the fleet's first page", "devices?limit=100", None),
    ("a search in the fleet", "devices?limit=100&q=burrow", None),
    ("a rule's preview", "rules/preview", {"rule": RULE}),
    ("values of a field", "fields/site/values", None),
    ("a grid", "devices/grid?row=site&column=firmware", None),
    ("the groups", "groups", None),
    ("the groups side by side", "groups/overview", None),
    ("a group's members", "groups/{group}/members?limit=100", None),
    ("tags", "tags", None),
    ("Now", "now", None),
)


def run() -> None:
    """Each request as both, by its 95th percentile."""
    ensure_world()
    now = datetime.now(UTC)
    folder = _folder(now)
    everybody = User.objects.filter(role="viewer").first() or User.objects.create_user("all@example.com", role="viewer")
    few, _ = User.objects.get_or_create(email="few@example.com", defaults={"name": "Few", "role": "viewer"})
    limits = read_limits([folder.pk], [])
    limit_person(few.pk, limits, actor=None, now=now)
    reach = reach_of(limits)
    print(f"limited to {reach.devices} devices in {reach.groups} groups", flush=True)
    settle_memory()
    group = Group.objects.filter(folder=folder).first()
    assert group is not None
    for name, path, sent in CALLS:
        address = f"/api/v1/{path.format(group=group.pk)}"
        took = [_p95(user, address, sent) for user in (few, everybody)]
        emit(
            "limits", name, took[0], "ms", target="<= 300 ms", met=took[0] <= 300, beside=f"{took[1]:.0f} ms unlimited"
        )


def _p95(user: User, address: str, sent: Any) -> float:
    client = Client(SERVER_NAME="localhost")
    client.force_login(user)

    def ask() -> None:
        if sent is None:
            answer = client.get(address)
        else:
            answer = client.post(address, json.dumps(sent), content_type="application/json")
        assert answer.status_code == 200, (address, answer.content[:500])

    ask()
    return p95(times_ms(ask, TIMES))


def _folder(now: datetime) -> Folder:
    folder, is_new = Folder.objects.get_or_create(name="Bench limits", parent=None)
    if is_new:
        ids = list(Device.objects.order_by("id").values_list("id", flat=True))
        for n in range(GROUPS):
            members = ids[n :: GROUPS * 3][:OF_EACH]
            create_group(
                name=f"Limits {n}", kind=GroupKind.STATIC, folder=folder, device_ids=members, actor=None, now=now
            )
    return folder

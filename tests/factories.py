"""Valid objects with the fewest rows."""

import itertools
from datetime import UTC, datetime, timedelta
from typing import Any

from rest_framework.test import APIClient

from herald.commands.models import CommandTemplate
from herald.fleet.models import Device, DeviceModel, Site
from herald.fleet.secrets import hash_secret
from herald.groups.models import Group
from herald.groups.services import create_group
from herald.images.models import Image
from herald.images.services import add_image, approve
from herald.images.signing import ensure_key
from herald.people.models import User
from herald.rollouts.compose import drafts
from herald.rollouts.launch import launching
from herald.rollouts.models import Rollout
from herald_core.rings.assignment import RingKind
from herald_core.versions import version_key_or_none

NOW = datetime(2026, 11, 23, 2, 0, tzinfo=UTC)
_number = itertools.count(1)


def make_user(role: str = "operator") -> User:
    return User.objects.create_user(f"u{next(_number)}@example.com", "a-long-password", name="U. Ser", role=role)


def client_as(role: str) -> APIClient:
    """A client of the API, signed in with a role."""
    client = APIClient()
    client.force_authenticate(make_user(role))
    return client


def make_model(name: str = "Sill 400", family: str = "Sill") -> DeviceModel:
    return DeviceModel.objects.get_or_create(name=name, defaults={"family": family})[0]


def make_site(name: str = "Here", zone: str = "UTC", **fields: Any) -> Site:
    return Site.objects.get_or_create(name=name, defaults={"time_zone": zone, **fields})[0]


def make_device(**fields: Any) -> Device:
    """An admitted device that called a minute ago; its secret is "secret-" and its uid."""
    n = next(_number)
    uid = fields.pop("uid", f"UID-{n}")
    site = fields.pop("site", None) or make_site()
    firmware = fields.pop("firmware", "5.1.0")
    defaults: dict[str, Any] = {
        "name": f"device-{n:05d}",
        "model": fields.pop("model", None) or make_model(),
        "hardware_revision": "B",
        "firmware": firmware,
        "firmware_key": version_key_or_none(firmware),
        "site": site,
        "time_zone": site.time_zone,
        "admission": "admitted",
        "last_check_in": NOW - timedelta(minutes=1),
        "first_seen": NOW - timedelta(days=9),
        "secret_hash": hash_secret(f"secret-{uid}"),
    }
    return Device.objects.create(uid=uid, **{**defaults, **fields})


def make_devices(count: int, **fields: Any) -> list[Device]:
    return [make_device(**fields) for _ in range(count)]


def make_image(version: str = "5.2.1", content: bytes = b"firmware", **fields: Any) -> Image:
    """An approved image for the Sill 400."""
    ensure_key(now=NOW)
    defaults = {"expected_minutes": 10, "models": [make_model()], "family": "Sill"}
    image = add_image(content=content, version=version, **{**defaults, **fields})
    return approve(image, actor=None, now=NOW)


def make_static(name: str, devices: list[Device]) -> Group:
    ids = [d.pk for d in devices]
    return create_group(name=name, kind="static", device_ids=ids, actor=None, now=NOW)


def make_rule_group(name: str, rule: str) -> Group:
    return create_group(name=name, kind="rule", rule=rule, actor=None, now=NOW)


def ring(name: str = "All", kind: RingKind = RingKind.REST, **fields: Any) -> drafts.RingDraft:
    return drafts.RingDraft(**{"name": name, "kind": kind, "soak_minutes": 0, **fields})


def make_draft(group: Group, image: Image | None = None, **fields: Any) -> Rollout:
    """A draft in one ring at any hour, unless said otherwise."""
    changes = drafts.to(image or make_image())
    draft = drafts.RolloutDraft(**{"changes": changes, "include": [group], "rings": [ring()], **fields})
    return drafts.save_draft(draft, actor=None, now=NOW)


def launched(rollout: Rollout, now: datetime = NOW) -> Rollout:
    """The draft, launched as the worker would do it."""
    found = drafts.preflight(rollout, now=now)
    launching.request_launch(rollout, expected=found.reached, actor=None, now=now)
    launching.launch(rollout, now=now)
    rollout.refresh_from_db()
    return rollout


def restart() -> CommandTemplate:
    """The command template that restarts devices."""
    return CommandTemplate.objects.get(key="restart")

"""Loading the demo scenario into an empty database, once."""

import json
import random
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.db import transaction

from herald.access.models import User
from herald.commands.models import Recipe, When
from herald.commands.services import ScheduleDraft, create_schedule
from herald.demo import scenario as s
from herald.demo.fleet import make_devices
from herald.demo.history import load_history, load_past_firings
from herald.fleet.functions import RangeDraft, set_functions
from herald.fleet.models import Custodian, Device, DeviceModel, EnrolmentCode, PropertyDefinition, Site, Tag
from herald.fleet.secrets import hash_secret
from herald.groups.models import Folder, Group
from herald.groups.services import create_group
from herald.images.models import ImageStatus
from herald.images.services import add_image, approve

MANIFEST = "fleet.json"
ENROLMENT_CODE = "larkfield-enrols"


def is_loaded() -> bool:
    """Whether the scenario is in the database."""
    return User.objects.filter(email=s.ACCOUNTS[0].email).exists()


def load(*, devices: int, now: datetime) -> None:
    """Load the whole scenario: people, places, images, devices, groups, history, and what moves now."""
    with transaction.atomic():
        engineer = _load_people()
        _load_ground()
        _load_limits(engineer, now)
        _load_images(engineer, now)
        simulated = _load_devices(devices, now)
        _load_groups(engineer, now)
        load_history(engineer, now)
        _load_schedule(engineer, now)
    installed = dict(Device.objects.values_list("uid", "firmware"))  # history has updated some
    for device in simulated:
        device["firmware"] = installed[str(device["uid"])]
    path = Path(settings.DATA_DIR) / MANIFEST
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps({"devices": simulated, "faults": s.FAULTS}))


def _load_people() -> User:
    for account in s.ACCOUNTS:
        User.objects.create_user(
            account.email, s.PASSWORD, name=account.name, role=account.role, time_zone=account.time_zone
        )
    return User.objects.get(email=s.ACCOUNTS[0].email)


def _load_ground() -> None:
    Site.objects.bulk_create(
        Site(name=e.name, region=e.region, time_zone=e.zone, transfers_at_once=e.transfers) for e in s.ESTATES
    )
    DeviceModel.objects.bulk_create(DeviceModel(name=x.model, family=x.family) for x in s.LINES)
    Custodian.objects.bulk_create(Custodian(name=n, email=e, tags=list(t)) for n, e, t in s.CUSTODIANS)
    Tag.objects.bulk_create(Tag(slug=slug, note=note, colour=colour) for slug, note, colour in s.TAGS)
    PropertyDefinition.objects.bulk_create(
        PropertyDefinition(source=source, **fields)
        for source, rows in (("attribute", s.ATTRIBUTES), ("fact", s.FACTS))
        for fields in rows
    )
    EnrolmentCode.objects.create(
        label="Demo", code_hash=hash_secret(ENROLMENT_CODE), admit=False, site=Site.objects.get(name="Thistle Bank")
    )


def _load_limits(engineer: User, now: datetime) -> None:
    """What not every firmware can."""
    for model in DeviceModel.objects.filter(name__in={name for name, _, _ in s.LIMITS}):
        drafts = [
            RangeDraft(function=function, never=since is None, from_version=since or "")
            for name, function, since in s.LIMITS
            if name == model.name
        ]
        set_functions(model, drafts, actor=engineer, now=now)


def _load_images(engineer: User, now: datetime) -> None:
    """Images as real files of one to three MB of random bytes, the same ones every time."""
    models = list(DeviceModel.objects.all())
    for release in s.RELEASES:
        rng = random.Random(f"{release.family} {release.version}")
        image = add_image(
            content=rng.randbytes(rng.randrange(1_000_000, 3_000_000)),
            models=[m for m in models if m.family == release.family],
            family=release.family,
            version=release.version,
            hardware_revisions=list(release.revisions),
            notes=release.notes,
            released_on=(now - timedelta(days=release.days_ago)).date(),
            min_version=release.min_version,
            free_space_mb=release.space_mb,
            min_battery_pct=release.battery_pct,
            expected_minutes=release.minutes,
            soak_minutes=release.soak,
        )
        if release.status != "new":
            approve(image, actor=engineer, now=now)
        if release.status == "withdrawn":
            image.status = ImageStatus.WITHDRAWN
            image.save(update_fields=["status"])


def _load_devices(count: int, now: datetime) -> list[dict[str, object]]:
    rows, simulated = make_devices(count, now)
    Device.objects.bulk_create(rows, batch_size=2000)
    return [d.as_json for d in simulated]


def _load_groups(engineer: User, now: datetime) -> None:
    folders = _load_folders()
    rng = random.Random(s.SEED)
    everyone = list(Device.objects.filter(admission="admitted").order_by("name").values_list("id", flat=True))
    rng.shuffle(everyone)
    for folder, name, size, note in s.STATIC_GROUPS:
        picked, everyone = everyone[:size], everyone[size:]
        create_group(
            name=name, kind="static", note=note, folder=folders[folder], device_ids=picked, actor=engineer, now=now
        )
    for folder, name, rule, note in s.RULE_GROUPS:
        create_group(name=name, kind="rule", rule=rule, note=note, folder=folders[folder], actor=engineer, now=now)
    early, late = len(everyone) // 20, len(everyone) // 10
    parts = (everyone[:early], everyone[early:-late], everyone[-late:])
    for name, part in zip(s.PACES, parts, strict=True):
        create_group(
            name=name,
            kind="static",
            folder=folders["Update pace"],
            family="Update pace",
            device_ids=part,
            actor=engineer,
            now=now,
        )


def _load_folders() -> dict[str, Folder]:
    folders: dict[str, Folder] = {}
    for name, parent in s.FOLDERS:
        folders[name] = Folder.objects.create(name=name, parent=folders.get(parent))
    return folders


def _load_schedule(engineer: User, now: datetime) -> None:
    schedule = create_schedule(
        ScheduleDraft(
            recipe=Recipe.RESTART,
            include=[Group.objects.get(name="Greenhouse controllers")],
            exclude=[Group.objects.get(name="Bench and spares")],
            when=When.DAILY,
            time_of_day=s.RESTART_AT,
            spread_minutes=20,
            give_up_minutes=120,
        ),
        actor=engineer,
        now=now,
    )
    load_past_firings(schedule, now)

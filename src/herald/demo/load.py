"""Loading the demo scenario into an empty database, once."""

import json
import random
from dataclasses import asdict
from datetime import datetime, timedelta
from pathlib import Path

from django.conf import settings
from django.db import transaction

from herald.demo import scenario as s
from herald.demo.fleet import make_devices
from herald.demo.history import BEGAN, History
from herald.demo.replay import Replay
from herald.fleet.capabilities import RangeDraft, set_capabilities
from herald.fleet.models import Custodian, Device, DeviceModel, EnrolmentCode, PropertyDefinition, Site, Tag
from herald.fleet.secrets import hash_secret
from herald.groups.models import Folder
from herald.groups.services import create_group
from herald.images.services import add_image, approve
from herald.limits.services import Limits, limit_person
from herald.notifications.rules import RuleDraft, save_rule
from herald.people.models import User

MANIFEST = "fleet.json"
ENROLMENT_CODE = "larkfield-enrols"
#: how long ago everybody looked last
LAST_VISIT = timedelta(days=3)


def is_loaded() -> bool:
    """Whether the scenario is in the database."""
    return User.objects.filter(email=s.ACCOUNTS[0].email).exists()


def load(*, devices: int, now: datetime) -> None:
    """Load the whole scenario: people, places, images and devices as they were some weeks ago, the work that was done
    with them since, and what moves now."""
    began = now - BEGAN
    with transaction.atomic():
        engineer = load_ground(began, images_at=now)
        rows, personas = make_devices(devices, now)
        last_calls = {r.uid: r.last_check_in for r in rows if r.last_check_in}
        Device.objects.bulk_create(rows, batch_size=2000)
        _load_groups(engineer, began)
        _limit_people(began)
        _note_visits(now)
        replay = Replay(personas, s.FAULTS, last_calls, start=began)
        History(replay, engineer=engineer, approver=User.objects.get(role="approver"), begins=now).live()
        _load_notification_rules(engineer, now)  # last: nobody is told today of what happened weeks ago
    path = Path(settings.DATA_DIR) / MANIFEST
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(json.dumps({"devices": [asdict(p) for p in personas], "faults": [asdict(f) for f in s.FAULTS]}))


def load_ground(began: datetime, *, images_at: datetime) -> User:
    """People, places, models and images, without any device; the engineer."""
    engineer = _load_people(began)
    _load_reference_data()
    _load_limits(engineer, began)
    _load_images(engineer, images_at)
    return engineer


def _load_people(began: datetime) -> User:
    for account in s.ACCOUNTS:
        User.objects.create_user(
            account.email,
            s.PASSWORD,
            name=account.name,
            role=account.role,
            time_zone=account.time_zone,
            joined_at=began,
        )
    return User.objects.get(email=s.ACCOUNTS[0].email)


def _note_visits(now: datetime) -> None:
    """Everybody was here before the weekend, so that Now tells what happened since."""
    emails = [account.email for account in s.ACCOUNTS]
    User.objects.filter(email__in=emails).update(last_visit_ended_at=now - LAST_VISIT)


def _limit_people(now: datetime) -> None:
    """Once there are the folders and sites that some are limited to."""
    for account in s.ACCOUNTS:
        if account.folders or account.sites:
            limits = Limits(
                folders=list(Folder.objects.filter(name__in=account.folders)),
                sites=list(Site.objects.filter(name__in=account.sites)),
            )
            limit_person(User.objects.get(email=account.email).pk, limits, actor=None, now=now)


def _load_notification_rules(engineer: User, now: datetime) -> None:
    approver = User.objects.get(role="approver")
    for name, kinds, people, urgent in (
        ("On call", s.URGENT_KINDS, (engineer, approver), True),
        ("Daily work", s.DAILY_KINDS, (engineer,), False),
    ):
        draft = RuleDraft(
            name=name,
            kinds=kinds,
            after_minutes=0 if urgent else 10,
            is_urgent=urgent,
            tells_over=urgent,
            next_after_minutes=15 if urgent else None,
            people=[person.pk for person in people],
        )
        save_rule(draft, actor=None, now=now)


def _load_reference_data() -> None:
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
            RangeDraft(capability=capability, never=since is None, from_version=since or "")
            for name, capability, since in s.LIMITS
            if name == model.name
        ]
        set_capabilities(model, drafts, actor=engineer, now=now)


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
            approve(image, actor=engineer, now=now - timedelta(days=release.days_ago))


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

"""Verbs on enrolment codes: what new devices show at their first call, and what they become by it."""

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from django.db import transaction

from herald.edits.change import RequestedEdit, read_change
from herald.fleet import editing
from herald.fleet.models import EnrolmentCode
from herald.fleet.secrets import hash_secret
from herald.fleet.vocabulary import load_vocabulary
from herald.http.errors import Conflict, Invalid
from herald.people.models import User
from herald.record.services import record


@dataclass(frozen=True, kw_only=True)
class CodeDraft:
    """A code as it is written down."""

    label: str
    admit: bool = False
    known_only: bool = False
    tags: Sequence[str] = ()
    attributes: Mapping[str, Any] = field(default_factory=dict)
    site: str = ""
    custodian: str = ""
    uses: int | None = None
    expires_at: datetime | None = None


def make_code(draft: CodeDraft, *, actor: User | None, now: datetime) -> tuple[EnrolmentCode, str]:
    """A new code and its letters, which are told this once and stored hashed.

    Raises:
        Invalid, InvalidFields: something does not fit.
        Conflict: another code has this label.
    """
    if draft.expires_at is not None and draft.expires_at <= now:
        raise Invalid("/expires_at", "It would have expired already.")
    asked = RequestedEdit(
        site=draft.site, custodian=draft.custodian, set_attributes=draft.attributes, add_tags=draft.tags
    )
    change = read_change(asked, load_vocabulary())
    letters = "-".join(secrets.token_hex(3) for _ in range(4))
    with transaction.atomic():
        if EnrolmentCode.objects.filter(label=draft.label).exists():
            raise Conflict(f"There is a code called “{draft.label}” already.")
        editing.ensure_tags(change.add_tags)
        code = editing.write_code(
            EnrolmentCode(
                label=draft.label,
                code_hash=hash_secret(letters),
                admit=draft.admit,
                known_only=draft.known_only,
                tags=list(change.add_tags),
                attributes=dict(change.set_attributes),
                site_id=change.replace["site"],
                custodian_id=change.replace["custodian"],
                uses_left=draft.uses,
                expires_at=draft.expires_at,
            )
        )
        record(now=now, actor=actor, kind="code", object_id=code.pk, sentence=f"Made the enrolment code “{code.label}”")
    return code, letters


def revoke_code(code: EnrolmentCode, *, actor: User | None, now: datetime) -> None:
    """Let no device use a code any more; those that did are not touched."""
    with transaction.atomic():
        sentence = f"Revoked the enrolment code “{code.label}”"
        record(now=now, actor=actor, kind="code", object_id=code.pk, sentence=sentence)
        editing.forget_code(code)

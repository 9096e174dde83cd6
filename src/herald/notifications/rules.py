"""Verbs on rules, channels, preferences and messages. What is for everybody is put on record."""

import secrets
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from datetime import datetime, time

from django.db import IntegrityError, transaction

from herald.http.errors import Conflict, Invalid, InvalidFields, NotFound
from herald.http.outbound import FetchError, check_address
from herald.live.notify import notify
from herald.notifications.models import (
    Channel,
    Message,
    NotificationRule,
    Occasion,
    Preference,
    Recipient,
    SendState,
)
from herald.people.models import User
from herald.record.models import Kind
from herald.record.services import record
from herald_core.timing.quiet import MailWhen

#: how many messages are read and listed at a time
MOST_RULES, MOST_CHANNELS = 100, 50


@dataclass(frozen=True, kw_only=True)
class RuleDraft:
    """A rule as somebody wants it; people in the order in which they are told, channels by id."""

    name: str
    kinds: Sequence[str] = ()
    at_least: int = 0
    after_minutes: int = 0
    is_urgent: bool = False
    tells_over: bool = True
    next_after_minutes: int | None = None
    people: Sequence[int] = ()
    channels: Sequence[int] = ()
    is_on: bool = True


def save_rule(
    draft: RuleDraft, *, actor: User | None, now: datetime, rule: NotificationRule | None = None
) -> NotificationRule:
    """Make a rule, or change one.

    Raises:
        InvalidFields: it tells nobody, or names people or channels that are not there. Conflict: another has its name.
    """
    people = {u.pk: u for u in User.objects.filter(pk__in=draft.people, is_active=True)}
    channels = list(Channel.objects.filter(pk__in=draft.channels))
    problems = []
    if missing := [i for i in draft.people if i not in people]:
        problems.append(("/people", f"There is no active account {missing[0]}."))
    if len(channels) < len(set(draft.channels)):
        problems.append(("/channels", "One of the channels is gone."))
    if not draft.people and not draft.channels:
        problems.append(("/people", "Say whom to tell: people, channels or both."))
    if draft.next_after_minutes is not None and len(draft.people) < 2:
        problems.append(("/next_after_minutes", "To tell one after the other it takes two people."))
    if problems:
        raise InvalidFields(problems)
    before = described(rule) if rule else None
    with _named_once("rule"), transaction.atomic():
        if rule is None and NotificationRule.objects.count() >= MOST_RULES:
            raise Conflict(f"There are {MOST_RULES} rules; delete one first.")
        kept = rule or NotificationRule()
        for field in ("name", "at_least", "after_minutes", "is_urgent", "tells_over", "next_after_minutes", "is_on"):
            setattr(kept, field, getattr(draft, field))
        kept.kinds = sorted(set(draft.kinds))
        kept.save()
        kept.channels.set(channels)
        kept.recipients.all().delete()
        ordered = list(dict.fromkeys(draft.people))
        Recipient.objects.bulk_create(Recipient(rule=kept, person=people[i], position=n) for n, i in enumerate(ordered))
        sentence = f"{'Changed' if rule else 'Made'} the notification rule “{kept.name}”"
        _note(sentence, kept.pk, actor, now, before=before, after=described(kept))
    return kept


def delete_rule(rule: NotificationRule, *, actor: User | None, now: datetime) -> None:
    """Delete a rule; what it told stays."""
    with transaction.atomic():
        before, pk = described(rule), rule.pk
        rule.delete()
        _note(f"Deleted the notification rule “{rule.name}”", pk, actor, now, before=before)


def described(rule: NotificationRule) -> dict[str, object]:
    """A rule as the record keeps it."""
    return {
        "name": rule.name,
        "kinds": list(rule.kinds),
        "at_least": rule.at_least,
        "after_minutes": rule.after_minutes,
        "urgent": rule.is_urgent,
        "tells_over": rule.tells_over,
        "next_after_minutes": rule.next_after_minutes,
        "people": [str(r.person) for r in rule.recipients.select_related("person")],
        "channels": [c.name for c in rule.channels.order_by("name")],
        "on": rule.is_on,
    }


def take_from_rules(user_ids: Collection[int], now: datetime) -> None:
    """Whoever has no account any more is told nothing. A rule that tells nobody now stays, and says so."""
    for rule in NotificationRule.objects.filter(recipients__person__in=user_ids).distinct():
        before = described(rule)
        rule.recipients.filter(person__in=user_ids).delete()
        if rule.recipients.count() < 2:
            rule.next_after_minutes = None
            rule.save(update_fields=["next_after_minutes"])
        sentence = f"The notification rule “{rule.name}” lost people whose accounts have ended"
        _note(sentence, rule.pk, None, now, before=before, after=described(rule))
    drop_waiting(user_ids)


def drop_waiting(user_ids: Collection[int]) -> None:
    """Mail that these people have not got yet goes to them no more."""
    Message.objects.filter(person__in=user_ids, state=SendState.WAITING).update(state=SendState.DROPPED)


def save_channel(
    *, name: str, url: str, is_on: bool, actor: User | None, now: datetime, channel: Channel | None = None
) -> Channel:
    """Make a channel, with a secret of its own, or change one.

    Raises:
        Invalid: its address is none that may be called. Conflict: another has its name.
    """
    try:
        check_address(url)
    except FetchError as error:
        raise Invalid("/url", str(error)) from None
    with _named_once("channel"), transaction.atomic():
        if channel is None and Channel.objects.count() >= MOST_CHANNELS:
            raise Conflict(f"There are {MOST_CHANNELS} channels; delete one first.")
        kept = channel or Channel(secret=secrets.token_urlsafe(32))
        kept.name, kept.url, kept.is_on = name, url, is_on
        kept.save()
        if not is_on:
            kept.messages.filter(state=SendState.WAITING).update(state=SendState.DROPPED)
        _note(f"{'Changed' if channel else 'Made'} the channel “{name}”", kept.pk, actor, now)
    return kept


def delete_channel(channel: Channel, *, actor: User | None, now: datetime) -> None:
    """Delete a channel; what it was told goes with it."""
    with transaction.atomic():
        pk = channel.pk
        channel.delete()
        _note(f"Deleted the channel “{channel.name}”", pk, actor, now)


def send_test(*, person: User | None, channel: Channel | None, now: datetime) -> Message:
    """Let a test message go out to oneself, by mail, or to a channel."""
    message = Message.objects.create(
        occasion=Occasion.TEST,
        person=person,
        channel=channel,
        text="A test: messages from Brisk Herald arrive here",
        path="/notifications",
        is_urgent=True,
        made_at=now,
        shown_at=now,
        due_at=now,
        state=SendState.WAITING,
    )
    notify("messages")
    return message


@dataclass(frozen=True, kw_only=True)
class PreferenceDraft:
    mail: MailWhen
    daily_at: time
    quiet_from: time | None
    quiet_until: time | None


def save_preference(person: User, draft: PreferenceDraft) -> Preference:
    """Keep how somebody wants to be written to; it holds for what happens from now on.

    Raises:
        Invalid: quiet hours have a begin and no end, or the other way round.
    """
    if (draft.quiet_from is None) != (draft.quiet_until is None):
        missing = "from" if draft.quiet_from is None else "until"
        raise Invalid(f"/quiet_{missing}", "Quiet hours have a begin and an end.")
    kept, _ = Preference.objects.update_or_create(
        person=person,
        defaults={
            "mail": draft.mail.value,
            "daily_at": draft.daily_at,
            "quiet_from": draft.quiet_from,
            "quiet_until": draft.quiet_until,
        },
    )
    return kept


def mark_read(person: User, up_to: int, *, now: datetime) -> None:
    """Mark what a person was told as read, up to a message."""
    Message.objects.of_person(person.pk, now).unread().filter(pk__lte=up_to).update(read_at=now)
    notify("messages")


def find_rule(rule_id: int) -> NotificationRule:
    """Raises NotFound where there is none."""
    rule = NotificationRule.objects.filter(pk=rule_id).first()
    if rule is None:
        raise NotFound(f"There is no notification rule {rule_id}.")
    return rule


class _named_once:  # noqa: N801  used like a function
    """A name that is taken is said in words."""

    def __init__(self, what: str) -> None:
        self._what = what

    def __enter__(self) -> None:
        pass

    def __exit__(self, kind: object, error: BaseException | None, trace: object) -> None:
        if isinstance(error, IntegrityError) and "name" in str(error):
            raise Conflict(f"Another {self._what} has this name.") from None


def _note(
    sentence: str,
    object_id: int,
    actor: User | None,
    now: datetime,
    before: dict[str, object] | None = None,
    after: dict[str, object] | None = None,
) -> None:
    record(
        now=now,
        actor=actor,
        kind=Kind.NOTIFICATION,
        object_id=object_id,
        sentence=sentence,
        before=before,
        after=after,
    )
    notify("notifications")

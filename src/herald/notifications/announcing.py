"""From attention items to messages: who is told that one opened, who is told next, and who that it is over."""

from collections.abc import Iterable
from datetime import datetime, timedelta

from django.conf import settings
from django.db.models import Q

from herald.attention.models import Item, ItemKind
from herald.db.limits import beyond_limits, sees
from herald.live.notify import notify
from herald.notifications.models import Channel, Message, NotificationRule, Occasion, Preference, SendState
from herald.people.models import Role, User
from herald_core.timing.clocks import is_zone
from herald_core.timing.quiet import MailWhen, Wishes, mail_due


def announce(item: Item, *, over: bool, now: datetime) -> None:
    """Tell of an item that opened or is over; within the transaction in which it does."""
    with beyond_limits():  # also where somebody's act opened it who is limited
        if over:
            _tell_over(item, now)
            return
        if item.kind == ItemKind.STANDING_IN:  # whatever the rules say: nobody stands in unseen
            admins = list(User.objects.filter(role=Role.ADMINISTRATOR, is_active=True))
            _tell(item, _of_itself(), admins, [], now)
        for rule in _matching(item):
            people = [r.person for r in rule.recipients.all() if _may_know(r.person, item)]
            first = people[:1] if rule.next_after_minutes else people
            _tell(item, rule, first, list(rule.channels.filter(is_on=True)), now)


def escalate(*, now: datetime) -> None:
    """Tell the next person of each rule that tells one after the other, where nobody yet says that they know of it."""
    for rule in NotificationRule.objects.filter(is_on=True).exclude(next_after_minutes=None):
        pause = timedelta(minutes=rule.next_after_minutes or 0)
        people = [r.person for r in rule.recipients.select_related("person")]
        # whoever another rule told knows of it, too
        told_of = Message.objects.filter(occasion=Occasion.OPENED, person__in=people)
        for item in Item.objects.awake(now).filter(messages__in=told_of, acknowledged_at=None).distinct():
            if not _wants(rule, item):
                continue
            told = {m.person_id: m for m in told_of.filter(item=item)}
            following = next((p for p in people if p.pk not in told and _may_know(p, item)), None)
            latest = max((m.shown_at for m in told.values()), default=item.opened_at)
            if following is not None and now >= latest + pause:
                _tell(item, rule, [following], [], now)


def _matching(item: Item) -> Iterable[NotificationRule]:
    rules = NotificationRule.objects.filter(is_on=True).prefetch_related("recipients__person")
    for rule in rules.order_by("-is_urgent", "id"):  # where two rules tell somebody, the urgent one does
        if _wants(rule, item):
            yield rule


def _wants(rule: NotificationRule, item: Item) -> bool:
    is_of_kind = not rule.kinds or item.kind in rule.kinds
    return is_of_kind and (item.count is None or item.count >= rule.at_least)


def _may_know(person: User, item: Item) -> bool:
    """Whether somebody is told of an item: whoever is limited to some devices only of rollouts and schedules that are
    within their limits, as all other items count the whole fleet."""
    if not person.is_limited or not person.is_active:
        return person.is_active
    return item.object_kind in ("rollout", "schedule") and sees(person.pk, item.object_kind, item.object_id)


def _tell(
    item: Item, rule: NotificationRule, people: Iterable[User], channels: Iterable[Channel], now: datetime
) -> None:
    begins = now + timedelta(minutes=rule.after_minutes)
    wishes = wishes_of(people)
    made = []
    for person in people:
        due = mail_due(begins, wishes[person.pk], urgent=rule.is_urgent) if settings.EMAIL_HOST else None
        made.append(_message(item, rule, Occasion.OPENED, now, begins, due, person=person))
    made += [_message(item, rule, Occasion.OPENED, now, begins, begins, channel=channel) for channel in channels]
    Message.objects.bulk_create(made, ignore_conflicts=True)
    notify("messages")


def _tell_over(item: Item, now: datetime) -> None:
    """Who was told is told that it is over; what nobody was told yet is not told any more."""
    opened = Message.objects.filter(item=item, occasion=Occasion.OPENED)
    opened.filter(shown_at__gt=now).update(state=SendState.DROPPED)
    opened.filter(state=SendState.WAITING).update(state=SendState.DROPPED)
    made = []
    wants_over = Q(rule__tells_over=True) | Q(rule=None, item__kind=ItemKind.STANDING_IN)
    seen = opened.filter(wants_over, shown_at__lte=now).select_related("rule", "person", "channel")
    for m in seen:
        if m.person is not None and not _may_know(m.person, item):
            continue
        if m.person is not None or m.state != SendState.DROPPED:
            due = now if m.state in (SendState.SENT, SendState.FAILED) else None
            by = m.rule or _of_itself()
            made.append(_message(item, by, Occasion.OVER, now, now, due, person=m.person, channel=m.channel))
    Message.objects.bulk_create(made, ignore_conflicts=True)
    notify("messages")


def _of_itself() -> NotificationRule:
    """How administrators are told of who stands in, as no rule that anybody made says it."""
    return NotificationRule(is_urgent=True)


def _message(
    item: Item,
    rule: NotificationRule,
    occasion: Occasion,
    now: datetime,
    shown_at: datetime,
    due_at: datetime | None,
    *,
    person: User | None = None,
    channel: Channel | None = None,
) -> Message:
    return Message(
        rule=rule if rule.pk else None,
        item=item,
        occasion=occasion,
        person=person,
        channel=channel,
        text=words_of(item, over=occasion == Occasion.OVER),
        path=path_of(item),
        is_urgent=rule.is_urgent,
        made_at=now,
        shown_at=shown_at,
        due_at=due_at or shown_at,
        state=SendState.WAITING if due_at else SendState.KEPT,
    )


def words_of(item: Item, *, over: bool) -> str:
    """What is told of an item, in one line."""
    count = "" if item.count is None else f": {item.count:,} device{'' if item.count == 1 else 's'}"
    return f"{'Over: ' if over else ''}{item.cause}{count}"[:400]


def path_of(item: Item) -> str:
    """Where in the interface an item is looked at. A link only opens the page, and never acts by itself."""
    if item.object_kind == "rollout":
        return f"/rollouts/{item.object_id}"
    if item.object_kind == "schedule":
        return f"/commands/{item.object_id}"
    if item.object_kind == "site":
        return f"/sites/{item.object_id}"
    return "/quarantine" if item.kind == ItemKind.QUARANTINED else "/attention"


def wishes_of(people: Iterable[User]) -> dict[int, Wishes]:
    """How each of these people wants to be written to."""
    known = {p.person_id: p for p in Preference.objects.filter(person__in=[u.pk for u in people])}
    return {user.pk: _wishes(user, known.get(user.pk)) for user in people}


def _wishes(user: User, kept: Preference | None) -> Wishes:
    # a zone that this machine does not know any more must not keep anybody from being told
    zone = user.time_zone if is_zone(user.time_zone) else "UTC"
    if kept is None:
        return Wishes(zone=zone)
    return Wishes(
        zone=zone,
        when=MailWhen(kept.mail),
        daily_at=kept.daily_at,
        quiet_from=kept.quiet_from,
        quiet_until=kept.quiet_until,
    )

"""Who is told of what: rules, channels to other systems, what each person wishes, and the messages themselves."""

from datetime import time

from django.conf import settings
from django.contrib.postgres.fields import ArrayField
from django.db import models
from django.db.models import Q

from herald.attention.models import Item, ItemKind
from herald.notifications.querysets import MessageQuerySet
from herald_core.timing.quiet import MailWhen


class Channel(models.Model):
    """An address of another system that is called: a webhook. Its calls are signed with the secret."""

    name = models.CharField(max_length=80, unique=True)
    url = models.URLField(max_length=500)
    secret = models.CharField(max_length=80)
    is_on = models.BooleanField(default=True)


class NotificationRule(models.Model):
    """Of which attention items whom to tell: people by name, and channels."""

    name = models.CharField(max_length=80, unique=True)
    #: kinds of items; of every kind, where it is empty
    kinds = ArrayField(models.CharField(max_length=20, choices=ItemKind), default=list, blank=True)
    #: only of items that count so many devices, or count none
    at_least = models.PositiveIntegerField(default=0)
    #: only of what is open for so long
    after_minutes = models.PositiveIntegerField(default=0)
    #: told at once, even in quiet hours
    is_urgent = models.BooleanField(default=False)
    #: whether those who were told are told that it is over
    tells_over = models.BooleanField(default=True)
    #: the people are told one by one, so many minutes apart, until somebody knows of it; None tells all at once
    next_after_minutes = models.PositiveIntegerField(null=True)
    channels = models.ManyToManyField(Channel, blank=True, related_name="rules")
    is_on = models.BooleanField(default=True)

    class Meta:
        constraints = (
            models.CheckConstraint(
                condition=Q(next_after_minutes=None) | Q(next_after_minutes__gt=0), name="rule_next_after_some_time"
            ),
        )


class Recipient(models.Model):
    """A person of a rule, in the order in which they are told."""

    rule = models.ForeignKey(NotificationRule, on_delete=models.CASCADE, related_name="recipients")
    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    position = models.PositiveSmallIntegerField()

    class Meta:
        ordering = ("position",)
        constraints = (
            models.UniqueConstraint(fields=["rule", "person"], name="recipient_once"),
            models.UniqueConstraint(fields=["rule", "position"], name="recipient_in_order"),
        )


class Preference(models.Model):
    """How a person wants to be written to; who has none is written to at once."""

    person = models.OneToOneField(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, primary_key=True, related_name="notification_preference"
    )
    mail = models.CharField(max_length=10, default=MailWhen.AT_ONCE.value)
    daily_at = models.TimeField(default=time(8))
    quiet_from = models.TimeField(null=True)
    quiet_until = models.TimeField(null=True)

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(mail__in=[m.value for m in MailWhen]), name="preference_mail_known"),
        )


class Occasion(models.TextChoices):
    """What of an item a message tells."""

    OPENED = "opened", "Opened"
    OVER = "over", "Over"
    TEST = "test", "Test"


class SendState(models.TextChoices):
    """Where a message is on its way out."""

    #: only in the program: its person takes no mail, or the installation sends none
    KEPT = "kept", "In the program only"
    WAITING = "waiting", "Waiting"
    SENT = "sent", "Sent"
    FAILED = "failed", "Failed"
    #: it was over before it was told
    DROPPED = "dropped", "No longer needed"


class Message(models.Model):
    """What one person or one channel is told of one item, once. A person finds it in the program in any case."""

    rule = models.ForeignKey(NotificationRule, null=True, on_delete=models.SET_NULL, related_name="messages")
    item = models.ForeignKey(Item, null=True, on_delete=models.CASCADE, related_name="messages")
    occasion = models.CharField(max_length=10, choices=Occasion)
    person = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="messages")
    channel = models.ForeignKey(Channel, null=True, on_delete=models.CASCADE, related_name="messages")
    text = models.CharField(max_length=400)
    #: where in the interface it leads
    path = models.CharField(max_length=200)
    is_urgent = models.BooleanField(default=False)
    #: the installation's time: when it was made, from when it is seen in the program, and when it is to go out
    made_at = models.DateTimeField()
    shown_at = models.DateTimeField()
    due_at = models.DateTimeField()
    read_at = models.DateTimeField(null=True)
    state = models.CharField(max_length=10, choices=SendState)
    attempts = models.PositiveSmallIntegerField(default=0)
    #: real time: when it is tried next, who is at it until when, and when it went out
    retry_at = models.DateTimeField(null=True)
    claimed_until = models.DateTimeField(null=True)
    sent_at = models.DateTimeField(null=True)

    objects = MessageQuerySet.as_manager()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=Q(state__in=SendState.values), name="message_state_known"),
            models.CheckConstraint(condition=Q(occasion__in=Occasion.values), name="message_occasion_known"),
            models.CheckConstraint(
                condition=Q(person__isnull=False, channel=None) | Q(person=None, channel__isnull=False),
                name="message_to_one",
            ),
            models.CheckConstraint(condition=Q(item__isnull=False) | Q(occasion="test"), name="message_about_an_item"),
            # one message for one cause, whichever rules match
            models.UniqueConstraint(
                fields=["item", "occasion", "person"], condition=~Q(person=None), name="message_person_once"
            ),
            models.UniqueConstraint(
                fields=["item", "occasion", "channel"], condition=~Q(channel=None), name="message_channel_once"
            ),
        )
        indexes = (
            models.Index(fields=["due_at"], condition=Q(state="waiting"), name="message_waiting"),
            models.Index(fields=["person", "-id"], name="message_of_person"),
        )


class Attempt(models.Model):
    """One try at sending, by mail or webhook. Real time."""

    message = models.ForeignKey(Message, on_delete=models.CASCADE, related_name="tries")
    at = models.DateTimeField()
    ok = models.BooleanField()
    words = models.CharField(max_length=300)

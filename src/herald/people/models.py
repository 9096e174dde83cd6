"""People who use Brisk Herald, known by their e-mail address."""

from collections.abc import Mapping
from datetime import datetime
from typing import Any, ClassVar

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser, BaseUserManager
from django.db import models

from herald.time import clock


class Role(models.TextChoices):
    """What a person is to do. Those who act and those who agree to it are different people, by role."""

    VIEWER = "viewer", "Viewer"
    OPERATOR = "operator", "Operator"
    APPROVER = "approver", "Approver"
    ADMINISTRATOR = "administrator", "Administrator"


class Ability(models.TextChoices):
    """What a call that changes something asks of whoever sends it."""

    OPERATE = "operate", "Operate: groups, devices, images, rollouts, commands"
    STOP = "stop", "Pause and stop what runs"
    COMMENT = "comment", "Comment, and look after what wants attention"
    APPROVE = "approve", "Approve images, gates and overrides, and open gates"
    ADMINISTER = "administer", "Set approval policies, keys and enrolment codes"
    OWN = "own", "One’s own session and tokens"


#: the whole of who may do what; docs/roles.md shows it call by call
ABILITIES: Mapping[Role, frozenset[Ability]] = {
    Role.VIEWER: frozenset({Ability.OWN}),
    Role.OPERATOR: frozenset({Ability.OWN, Ability.OPERATE, Ability.STOP, Ability.COMMENT}),
    Role.APPROVER: frozenset({Ability.OWN, Ability.APPROVE, Ability.STOP, Ability.COMMENT}),
    Role.ADMINISTRATOR: frozenset({Ability.OWN, Ability.ADMINISTER, Ability.STOP, Ability.COMMENT}),
}


class UserManager(BaseUserManager["User"]):
    def create_user(self, email: str, password: str | None = None, **fields: Any) -> "User":
        user = self.model(email=self.normalize_email(email).lower(), **fields)
        user.set_password(password)
        user.save(using=self._db)
        return user

    def create_superuser(self, email: str, password: str | None = None, **fields: Any) -> "User":
        return self.create_user(email, password, **{"role": Role.ADMINISTRATOR, **fields})


class User(AbstractBaseUser):
    """One account. `time_zone` is the clock in which this person is shown times."""

    email = models.EmailField(unique=True)
    name = models.CharField(max_length=100)
    role = models.CharField(max_length=20, choices=Role, default=Role.VIEWER)
    time_zone = models.CharField(max_length=64, default="UTC")
    is_active = models.BooleanField(default=True)
    #: sees and changes only what is within their limits (`herald.limits`); where there are none, nothing
    is_limited = models.BooleanField(default=False)
    joined_at = models.DateTimeField(null=True)
    #: when a request of theirs was last seen, to within a minute of real time
    seen_at = models.DateTimeField(null=True)
    #: when they were seen last before they had been away for a while
    last_visit_ended_at = models.DateTimeField(null=True)
    #: of whoever is removed only what they did is kept, under a name that says nothing
    removed_at = models.DateTimeField(null=True)

    #: the token by which this request came; None for a session
    by_token: "ApiToken | None" = None

    USERNAME_FIELD = "email"
    REQUIRED_FIELDS: ClassVar[list[str]] = ["name"]
    objects = UserManager()

    class Meta:
        # a trigger keeps an administrator who can sign in: without one nobody could let anybody in
        constraints = (
            models.CheckConstraint(condition=models.Q(role__in=Role.values), name="user_role_known"),
            models.CheckConstraint(
                condition=models.Q(removed_at=None) | models.Q(is_active=False), name="user_removed_is_disabled"
            ),
            # keys, codes and accounts are the whole installation's
            models.CheckConstraint(
                condition=models.Q(is_limited=False) | ~models.Q(role="administrator"), name="user_limited_is_no_admin"
            ),
        )

    def __str__(self) -> str:
        return self.name or self.email

    def may(self, ability: Ability) -> bool:
        """Whether this person's role has the ability, or they stand in for one that has it; and the token by which they
        came does not only read."""
        if self.by_token is not None and self.by_token.reads_only:
            return False
        if not self.is_active or ability in ABILITIES[Role(self.role)]:
            return self.is_active
        return ability is Ability.APPROVE and self.stands_in_until is not None

    @property
    def stands_in_until(self) -> datetime | None:
        """Until when an administrator stands in for an approver; never by a token, which nobody watches."""
        if self.role != Role.ADMINISTRATOR or self.by_token is not None:
            return None
        found = StandIn.objects.filter(person=self.pk, ended_at=None, ends_at__gt=clock.now())
        return found.values_list("ends_at", flat=True).first()

    @property
    def sees_a_part(self) -> bool:
        """Whether this person, or the token by which they came, is limited to some devices."""
        return self.is_limited or (self.by_token is not None and self.by_token.is_limited)


class Invitation(models.Model):
    """Somebody who may make an account by a link, or open theirs anew. Of the link only a digest is kept; the row goes
    when it is used."""

    email = models.EmailField(unique=True)
    #: whose account it opens anew; None for an account that is to be made
    person = models.OneToOneField(
        settings.AUTH_USER_MODEL, null=True, on_delete=models.CASCADE, related_name="new_link"
    )
    role = models.CharField(max_length=20, choices=Role)
    #: what the account is limited to: the ids of `folders` and `sites`; None for nothing
    limits = models.JSONField(null=True)
    digest = models.CharField(max_length=64, unique=True)
    invited_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.PROTECT, related_name="+")
    made_at = models.DateTimeField()
    expires_at = models.DateTimeField()

    class Meta:
        constraints = (
            models.CheckConstraint(condition=models.Q(role__in=Role.values), name="invitation_role_known"),
            models.CheckConstraint(
                condition=models.Q(limits=None) | ~models.Q(role="administrator"), name="invitation_limited_is_no_admin"
            ),
        )


class OpenSession(models.Model):
    """Where somebody is signed in: what their page lists, beside Django's own session of the same key."""

    key = models.CharField(max_length=40, unique=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="open_sessions")
    began_at = models.DateTimeField()
    seen_at = models.DateTimeField()
    address = models.CharField(max_length=60)
    #: it began with a passkey, or a code besides the password
    is_strong = models.BooleanField(default=False)
    #: what the browser says it is
    agent = models.CharField(max_length=300)


class ApiToken(models.Model):
    """What a token is for, and what it opens. The token itself is kept by its digest only, and is gone once it was
    revoked or has run out; this stays, as the record names it."""

    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="api_tokens")
    token = models.OneToOneField(
        settings.KNOX_TOKEN_MODEL, null=True, on_delete=models.SET_NULL, related_name="details"
    )
    name = models.CharField(max_length=80)
    #: changes nothing, whatever its owner may
    reads_only = models.BooleanField(default=False)
    #: opens only what is within its own limits (`herald.limits`), and within its owner's
    is_limited = models.BooleanField(default=False)
    #: when it was used last, to within a minute
    used_at = models.DateTimeField(null=True)

    class Meta:
        constraints = (
            # by the name it is known to its owner, and in the record
            models.UniqueConstraint(fields=["user", "name"], condition=~models.Q(token=None), name="token_name_once"),
        )


class SecondFactor(models.Model):
    """What an authenticator app makes codes from, encrypted. It counts once a first code of it was given."""

    person = models.OneToOneField(
        settings.AUTH_USER_MODEL, on_delete=models.CASCADE, primary_key=True, related_name="second_factor"
    )
    secret = models.TextField()
    confirmed_at = models.DateTimeField(null=True)
    #: the latest step of time whose code was taken: no code is taken twice
    last_step = models.BigIntegerField(default=0)


class RecoveryCode(models.Model):
    """A code for whoever has lost their app, by its digest; it opens once."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="recovery_codes")
    digest = models.CharField(max_length=64)
    used_at = models.DateTimeField(null=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["person", "digest"], name="recovery_code_once"),)


class WantedFactor(models.Model):
    """A role whose people are to sign in with more than a password."""

    role = models.CharField(max_length=20, choices=Role, unique=True)

    class Meta:
        constraints = (
            models.CheckConstraint(condition=models.Q(role__in=Role.values), name="wanted_factor_role_known"),
        )


class StandIn(models.Model):
    """An administrator who stands in for an approver, for a while and for a reason."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.PROTECT, related_name="stand_ins")
    reason = models.CharField(max_length=300)
    began_at = models.DateTimeField()
    ends_at = models.DateTimeField()
    ended_at = models.DateTimeField(null=True)

    class Meta:
        constraints = (
            models.UniqueConstraint(fields=["person"], condition=models.Q(ended_at=None), name="stand_in_once"),
            models.CheckConstraint(condition=~models.Q(reason=""), name="stand_in_has_reason"),
            models.CheckConstraint(condition=models.Q(ends_at__gt=models.F("began_at")), name="stand_in_ends_later"),
        )


class Passkey(models.Model):
    """A key on a person's own device that signs them in (WebAuthn). Only its public half is here."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="passkeys")
    name = models.CharField(max_length=60)
    #: by which a browser names it, as base64url
    credential = models.CharField(max_length=1400, unique=True)
    #: by which a browser names its person; the same for all of theirs
    handle = models.CharField(max_length=100)
    public_key = models.BinaryField()
    #: how often its device says that it was used; 0 where it does not count
    uses = models.BigIntegerField(default=0)
    #: when the challenge was made that it answered last, in milliseconds of real time: none is answered twice
    challenge_at = models.BigIntegerField(default=0)
    added_at = models.DateTimeField()
    used_at = models.DateTimeField(null=True)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["person", "name"], name="passkey_name_once"),)


class KeptAnswer(models.Model):
    """The answer to a request that was carried out, for whoever sends it again with the same key."""

    #: of the key, and whose it is
    digest = models.CharField(max_length=64, primary_key=True)
    user = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    token = models.ForeignKey(ApiToken, null=True, on_delete=models.CASCADE, related_name="+")
    #: of the request
    fingerprint = models.CharField(max_length=64)
    #: encrypted with a key that only its caller has; none where it was too long
    body = models.BinaryField(null=True)
    #: real time
    at = models.DateTimeField(db_index=True)


class FailedSignIn(models.Model):
    """Sign-ins that failed, counted for all server processes together: by account and address, and by address."""

    key = models.CharField(max_length=400, primary_key=True)
    failures = models.PositiveIntegerField()
    #: real time
    last_at = models.DateTimeField()

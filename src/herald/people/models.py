"""People who use Brisk Herald, known by their e-mail address."""

from collections.abc import Mapping
from typing import Any, ClassVar

from django.conf import settings
from django.contrib.auth.models import AbstractBaseUser, BaseUserManager
from django.db import models


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

    USERNAME_FIELD = "email"
    REQUIRED_FIELDS: ClassVar[list[str]] = ["name"]
    objects = UserManager()

    class Meta:
        constraints = (models.CheckConstraint(condition=models.Q(role__in=Role.values), name="user_role_known"),)

    def __str__(self) -> str:
        return self.name or self.email

    def may(self, ability: Ability) -> bool:
        """Whether this person's role has the ability."""
        return self.is_active and ability in ABILITIES[Role(self.role)]


class TokenName(models.Model):
    """What a token is for: tokens themselves are kept by their digest only."""

    token = models.OneToOneField(settings.KNOX_TOKEN_MODEL, on_delete=models.CASCADE, related_name="named")
    name = models.CharField(max_length=80)


class FailedSignIn(models.Model):
    """Sign-ins that failed, counted for all server processes together: by account and address, and by address."""

    key = models.CharField(max_length=400, primary_key=True)
    failures = models.PositiveIntegerField()
    #: real time
    last_at = models.DateTimeField()

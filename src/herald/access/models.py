"""People who use Brisk Herald, known by their e-mail address."""

from typing import Any, ClassVar

from django.contrib.auth.models import AbstractBaseUser, BaseUserManager
from django.db import models


class Role(models.TextChoices):
    """What a person may do."""

    READER = "reader", "Reader"
    ENGINEER = "engineer", "Engineer"
    APPROVER = "approver", "Approver"


class UserManager(BaseUserManager["User"]):
    def create_user(self, email: str, password: str | None = None, **fields: Any) -> "User":
        user = self.model(email=self.normalize_email(email).lower(), **fields)
        user.set_password(password)
        user.save(using=self._db)
        return user

    def create_superuser(self, email: str, password: str | None = None, **fields: Any) -> "User":
        return self.create_user(email, password, **{"role": Role.APPROVER, **fields})


class User(AbstractBaseUser):
    """One account. `time_zone` is the clock in which this person is shown times."""

    email = models.EmailField(unique=True)
    name = models.CharField(max_length=100)
    role = models.CharField(max_length=10, choices=Role, default=Role.READER)
    time_zone = models.CharField(max_length=64, default="UTC")
    is_active = models.BooleanField(default=True)

    USERNAME_FIELD = "email"
    REQUIRED_FIELDS: ClassVar[list[str]] = ["name"]
    objects = UserManager()

    class Meta:
        constraints = (models.CheckConstraint(condition=models.Q(role__in=Role.values), name="user_role_known"),)

    def __str__(self) -> str:
        return self.name or self.email

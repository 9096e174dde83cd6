"""Views of the fleet that people keep."""

from django.conf import settings
from django.db import models


class SavedView(models.Model):
    """A rule, columns and order that a person keeps by a name; `address` is the fleet view's own."""

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="+")
    name = models.CharField(max_length=60)
    address = models.JSONField()
    created_at = models.DateTimeField()

    class Meta:
        constraints = (models.UniqueConstraint(fields=["owner", "name"], name="view_name_once"),)

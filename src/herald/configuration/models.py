"""What is kept by files, and from which it was applied last."""

from django.conf import settings
from django.db import models


class KeptByFile(models.Model):
    """A thing that a file says how it is to be. Known by its kind and name, as the file knows it."""

    kind = models.CharField(max_length=20)
    name = models.CharField(max_length=400)
    file = models.CharField(max_length=200)
    #: what the files call their state, as a commit
    revision = models.CharField(max_length=100, blank=True)
    applied_at = models.DateTimeField()
    applied_by = models.ForeignKey(settings.AUTH_USER_MODEL, null=True, on_delete=models.SET_NULL, related_name="+")
    #: of how it was then: another one tells that it was changed by hand since
    digest = models.CharField(max_length=64)

    class Meta:
        constraints = (models.UniqueConstraint(fields=["kind", "name"], name="kept_by_file_once"),)

"""What people and tokens are limited to. That somebody is limited at all stands with the person (`User.is_limited`), or
with the token: whoever is, and has no row here, sees nothing."""

from django.conf import settings
from django.db import models

from herald.fleet.models import Site
from herald.groups.models import Folder
from herald.people.models import ApiToken


class FolderLimit(models.Model):
    """A person sees the devices in the groups of a folder, and of the folders below it."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="folder_limits")
    folder = models.ForeignKey(Folder, on_delete=models.PROTECT, related_name="limits")

    class Meta:
        constraints = (models.UniqueConstraint(fields=["person", "folder"], name="folder_limit_once"),)


class SiteLimit(models.Model):
    """A person sees the devices at a site."""

    person = models.ForeignKey(settings.AUTH_USER_MODEL, on_delete=models.CASCADE, related_name="site_limits")
    site = models.ForeignKey(Site, on_delete=models.PROTECT, related_name="limits")

    class Meta:
        verbose_name_plural = "people’s limits"
        constraints = (models.UniqueConstraint(fields=["person", "site"], name="site_limit_once"),)


class TokenFolder(models.Model):
    """A token opens the devices in the groups of a folder, and of the folders below it."""

    token = models.ForeignKey(ApiToken, on_delete=models.CASCADE, related_name="folders")
    folder = models.ForeignKey(Folder, on_delete=models.CASCADE, related_name="+")

    class Meta:
        constraints = (models.UniqueConstraint(fields=["token", "folder"], name="token_folder_once"),)


class TokenSite(models.Model):
    """A token opens the devices at a site."""

    token = models.ForeignKey(ApiToken, on_delete=models.CASCADE, related_name="sites")
    site = models.ForeignKey(Site, on_delete=models.CASCADE, related_name="+")

    class Meta:
        constraints = (models.UniqueConstraint(fields=["token", "site"], name="token_site_once"),)

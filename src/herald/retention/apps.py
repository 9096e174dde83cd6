"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class RetentionConfig(AppConfig):
    name = "herald.retention"

    def ready(self) -> None:
        post_migrate.connect(import_module("herald.retention.kinds").write_kinds, sender=self)

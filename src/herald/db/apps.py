"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig
from django.db.backends.signals import connection_created


class DbConfig(AppConfig):
    name = "herald.db"

    def ready(self) -> None:
        moments = import_module("herald.db.moments")
        connection_created.connect(moments.read_moments_fast, dispatch_uid="herald.db.moments")

"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig


class GroupsConfig(AppConfig):
    name = "herald.groups"

    def ready(self) -> None:
        import_module("herald.groups.names")  # it tells what groups and devices are called

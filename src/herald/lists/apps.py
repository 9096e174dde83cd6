"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig


class ListsConfig(AppConfig):
    name = "herald.lists"

    def ready(self) -> None:
        # groups that follow a list are changed by it, and by nothing else
        import_module("herald.groups.keeping").tells_keeper(import_module("herald.lists.services").keeper_of)

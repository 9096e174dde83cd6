"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class CommandsConfig(AppConfig):
    name = "herald.commands"

    def ready(self) -> None:
        import_module("herald.commands.references")  # it tells the groups what it uses of them
        import_module("herald.commands.waits")  # and the deliveries what keeps them waiting
        import_module("herald.commands.conflicts")  # and rollouts what else their devices are to do
        post_migrate.connect(import_module("herald.commands.templates").write_built_in, sender=self)

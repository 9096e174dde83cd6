"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig


class RolloutsConfig(AppConfig):
    name = "herald.rollouts"

    def ready(self) -> None:
        import_module("herald.rollouts.references")  # it tells the groups what it uses of them
        import_module("herald.rollouts.compose.conflicts")  # and others what else their devices are to do
        import_module("herald.rollouts.watch.waiting")  # and the deliveries what keeps them waiting
        import_module("herald.rollouts.image_uses")  # and the images what sends them

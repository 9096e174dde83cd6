"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig


class AgendaConfig(AppConfig):
    name = "herald.agenda"

    def ready(self) -> None:
        # feeds forget what they told to somebody who may see less now
        import_module("herald.limits.services").on_changed.append(import_module("herald.agenda.feed").forget_told)

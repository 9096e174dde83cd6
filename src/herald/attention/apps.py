"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig


class AttentionConfig(AppConfig):
    name = "herald.attention"

    def ready(self) -> None:
        accounts = import_module("herald.people.accounts")
        accounts.on_gone.append(import_module("herald.attention.handling").take_from)
        standing_in = import_module("herald.people.standing_in")
        standing_in.on_change.append(import_module("herald.attention.services").tell_of_stand_in)

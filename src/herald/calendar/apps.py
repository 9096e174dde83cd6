"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig


class CalendarConfig(AppConfig):
    name = "herald.calendar"

    def ready(self) -> None:
        import_module("herald.calendar.references")  # it tells the groups what it uses of them

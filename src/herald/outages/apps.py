"""Start-up of this room."""

from django.apps import AppConfig


class OutagesConfig(AppConfig):
    name = "herald.outages"

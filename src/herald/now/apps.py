"""Start-up of this room."""

from django.apps import AppConfig


class NowConfig(AppConfig):
    name = "herald.now"

"""Start-up of this room."""

from django.apps import AppConfig


class SamplesConfig(AppConfig):
    name = "herald.samples"

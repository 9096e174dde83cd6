"""Start-up of this room."""

from django.apps import AppConfig


class ConfigurationConfig(AppConfig):
    name = "herald.configuration"

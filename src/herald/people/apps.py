"""The room of accounts, as Django knows it."""

from django.apps import AppConfig


class PeopleConfig(AppConfig):
    """Its label is older than its name, and stays: tables and migrations are named by it."""

    name = "herald.people"
    label = "access"

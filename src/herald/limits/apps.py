"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig
from django.db.models.signals import post_migrate


class LimitsConfig(AppConfig):
    name = "herald.limits"

    def ready(self) -> None:
        post_migrate.connect(import_module("herald.limits.policies").write_policies, sender=self)
        # whoever is invited within limits has them as soon as there is an account
        import_module("herald.people.accounts").on_accepted.append(
            import_module("herald.limits.services").take_from_invitation
        )

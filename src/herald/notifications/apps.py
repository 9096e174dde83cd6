"""Start-up of this room."""

from importlib import import_module

from django.apps import AppConfig


class NotificationsConfig(AppConfig):
    name = "herald.notifications"

    def ready(self) -> None:
        # attention tells of what opens and closes
        import_module("herald.attention.services").on_change.append(
            import_module("herald.notifications.announcing").announce
        )
        import_module("herald.people.accounts").on_gone.append(
            import_module("herald.notifications.rules").take_from_rules
        )

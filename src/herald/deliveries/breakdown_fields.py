"""What deliveries are counted and filtered by, and where the database has it."""

PLACES = {
    "site": "device__site__name",
    "model": "device__model__name",
    "hardware": "device__hardware_revision",
    "from_version": "from_version",
    "last_error": "last_error",
}

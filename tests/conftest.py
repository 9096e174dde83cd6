"""What all tests share."""

import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from django.db import connections
from hypothesis import HealthCheck, settings

settings.register_profile(
    "herald", deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)
settings.load_profile("herald")


@pytest.fixture(scope="session")
def django_db_modify_db_settings(django_db_modify_db_settings_parallel_suffix: None) -> None:
    """The database of a run is a copy of one that has its tables already, where `./herald test` says which."""
    if template := os.environ.get("HERALD_TEST_TEMPLATE"):
        connections["default"].settings_dict["TEST"]["TEMPLATE"] = template


@pytest.fixture(autouse=True)
def own_files(tmp_path: Path, settings: Any) -> Iterator[None]:
    """Images and the signing key of a test are its own."""
    settings.IMAGES_DIR = tmp_path / "images"
    settings.OUTPUTS_DIR = tmp_path / "outputs"
    settings.SIGNING_KEY_FILE = tmp_path / "signing-key.pem"
    yield

"""What all tests share."""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

settings.register_profile(
    "herald", deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)
settings.load_profile("herald")


@pytest.fixture(autouse=True)
def own_files(tmp_path: Path, settings: Any) -> Iterator[None]:
    """Images and the signing key of a test are its own."""
    settings.IMAGES_DIR = tmp_path / "images"
    settings.OUTPUTS_DIR = tmp_path / "outputs"
    settings.SIGNING_KEY_FILE = tmp_path / "signing-key.pem"
    yield

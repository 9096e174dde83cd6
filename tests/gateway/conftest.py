"""What all tests of the gateway share."""

from tests.strict import nothing_hides_in_quarantine  # noqa: F401  an autouse fixture

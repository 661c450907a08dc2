"""Real systems as judges: where one is missing the test is skipped, with the remedy; in CI it fails."""

import os
import shutil
from collections.abc import Callable

import pytest
from hypothesis import HealthCheck, settings

# Equal runs test equal things; more examples are had with HYPOTHESIS_PROFILE=long.
settings.register_profile("default", deadline=None, derandomize=True, max_examples=60, suppress_health_check=[HealthCheck.too_slow])
settings.register_profile("long", deadline=None, max_examples=2000, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile(os.environ.get("HYPOTHESIS_PROFILE", "default"))


@pytest.fixture
def need() -> Callable[..., None]:
    """Return a function that ends the test unless all programs are there, and root is who runs it where that is asked for."""

    def check(*programs: str, root: bool = False) -> None:
        missing = [f"the program {name} is not installed (apt-get install {name})" for name in programs if shutil.which(name) is None]
        if root and os.geteuid() != 0:
            missing.append("it needs root (run make test as root, in a machine that you can throw away)")
        if missing and os.environ.get("CI") == "true":
            pytest.fail("; ".join(missing))
        if missing:
            pytest.skip("; ".join(missing))

    return check

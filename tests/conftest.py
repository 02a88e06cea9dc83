"""Tests keep their data in a folder of their own, set before Django reads its settings."""

import os
import tempfile

os.environ["TANSY_DATA"] = tempfile.mkdtemp(prefix="tansy-test-")
os.environ.pop("TANSY_DATABASE", None)

from hypothesis import HealthCheck, settings

# The same examples in every run, so that a change is judged by what it changed, and no examples lost to a busy machine.
# `pytest --hypothesis-profile=search` looks further.
settings.register_profile("search", deadline=None)
settings.register_profile("steady", derandomize=True, deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("steady")

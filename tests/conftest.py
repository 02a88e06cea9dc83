"""Tests keep their data in a folder of their own, set before Django reads its settings."""

import os
import tempfile

os.environ["TANSY_DATA"] = tempfile.mkdtemp(prefix="tansy-test-")
os.environ.pop("TANSY_DATABASE", None)

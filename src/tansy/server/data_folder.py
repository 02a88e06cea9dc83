"""Where everything lies that is kept."""

from __future__ import annotations

import os
from pathlib import Path

ROOT = Path(__file__).resolve().parents[3]


def data_folder() -> Path:
    """TANSY_DATA, or a folder beside the code. It need not exist."""
    return Path(os.environ.get("TANSY_DATA", ROOT / "var" / "data")).resolve()


def database(folder: Path) -> Path:
    return Path(os.environ.get("TANSY_DATABASE", folder / "tansy.sqlite3"))

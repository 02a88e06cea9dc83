"""Where everything lies that is kept."""

from __future__ import annotations

import os
from pathlib import Path

_ROOT = Path(__file__).resolve().parents[3]


def data_folder(name: str = "data") -> Path:
    """TANSY_DATA; else a folder beside the code, or where it is installed, of the person's own. It need not exist."""
    if (_ROOT / "pyproject.toml").exists():
        usual = _ROOT / "var"
    else:
        usual = Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share") / "tansy"
    return Path(os.environ.get("TANSY_DATA", usual / name)).resolve()


def database(folder: Path) -> Path:
    return Path(os.environ.get("TANSY_DATABASE", folder / "tansy.sqlite3"))

"""Whether every kernel is compiled, and having it done where it is not.

A process that compiles a kernel itself runs the parts that it compiled before, and one that loads it runs those that
were compiled into it: the last bits differ. So that every run gives the same, runs load kernels and never compile them,
and what was compiled from other code is thrown away first: Numba does not notice that a part has changed.
"""

from __future__ import annotations

import os
import platform
import subprocess
import sys
from collections.abc import Callable
from hashlib import blake2b
from importlib.metadata import version
from pathlib import Path

import numba

from tansy.engine import kernels

COMPILING = "TANSY_COMPILING"
"""Set in processes that compile."""


def make_ready(say: Callable[[str, int, int], None] | None = None) -> None:
    """Have every kernel compiled in processes of their own, unless the cache holds those of this code already.

    say: called with ("compile", 0, 0) where that takes place; it takes a minute or two, once after an update.
    """
    if COMPILING in os.environ or stamp().exists() or not os.access(folder(), os.W_OK):
        return
    if say:
        say("compile", 0, 0)
    subprocess.run([sys.executable, "-m", "tansy.engine.study.compile"], check=True, stderr=subprocess.DEVNULL)


def folder() -> Path:
    """Where compiled kernels are kept."""
    chosen = os.environ.get("NUMBA_CACHE_DIR")
    found = Path(chosen) if chosen else Path(kernels.__path__[0]) / "__pycache__"
    found.mkdir(parents=True, exist_ok=True)
    return found


def stamp() -> Path:
    """The file that says that the cache holds what this code compiles to, here."""
    content = blake2b(f"{numba.__version__} {version('llvmlite')} {platform.machine()}".encode(), digest_size=8)
    for path in sorted(Path(kernels.__path__[0]).glob("*.py")):
        content.update(path.read_bytes())
    return folder() / f"ready-{content.hexdigest()}"

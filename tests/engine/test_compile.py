"""Runs load kernels and never compile them: what `make setup` compiles is all that there is."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tansy.engine import kernels
from tansy.engine.study import ready

LISTING = """
import gc, importlib, json, pkgutil
import tansy.engine.kernels as folder
from numba.core.registry import CPUDispatcher
for module in pkgutil.iter_modules(folder.__path__):
    importlib.import_module(f"{folder.__name__}.{module.name}")
from tansy.engine.study.compile import SHARES, compile_share
for share in SHARES:
    compile_share(share)
kernels = [d for d in gc.get_objects() if isinstance(d, CPUDispatcher) and d.py_func.__module__.startswith("tansy")]
from_python = [d for d in kernels if not d.targetoptions.get("no_cpython_wrapper")]
print(json.dumps([d.py_func.__name__ for d in from_python if not d.overloads]))
"""
ONLY_IN_KERNELS = {"choose_differences"}
"""Called from Python by tests alone."""


def test_all_kernels_are_compiled_beforehand() -> None:
    done = subprocess.run([sys.executable, "-c", LISTING], capture_output=True, text=True, check=True)
    assert set(json.loads(done.stdout)) == ONLY_IN_KERNELS


def test_kernels_of_other_code_are_compiled_anew_by_a_process_of_their_own(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    commands: list[list[str]] = []
    said: list[str] = []

    def run(command: list[str], **_: Any) -> None:
        commands.append(command)
        ready.stamp().touch()

    monkeypatch.setenv("NUMBA_CACHE_DIR", str(tmp_path))
    monkeypatch.setattr(subprocess, "run", run)
    for _ in range(2):
        ready.make_ready(lambda step, done, of: said.append(step))
    assert commands == [[sys.executable, "-m", "tansy.engine.study.compile"]] and said == ["compile"]
    monkeypatch.setattr(ready.numba, "__version__", "another")
    ready.make_ready()
    assert len(commands) == 2
    ready.stamp().unlink()
    monkeypatch.setenv(ready.COMPILING, "yes")
    ready.make_ready()  # the process that compiles does not wait for itself
    assert len(commands) == 2


def test_compiled_kernels_lie_elsewhere_where_the_code_cannot_be_written_to(tmp_path: Path) -> None:
    """As where an administrator installed it, and a service of another user runs it."""
    (tmp_path / "a file").touch()
    taken, free = tmp_path / "a file" / "x", tmp_path / "data" / "kernels"
    assert kernels.first_with_room([taken]) is None and kernels.first_with_room([taken, free]) == free
    code = """
import sys, pathlib
import numba  # read by another library before
mkdir = pathlib.Path.mkdir
def refused(self, *given, **more):
    if self.name == "__pycache__":
        raise PermissionError(13, "Permission denied")
    mkdir(self, *given, **more)
pathlib.Path.mkdir = refused
from tansy.engine import kernels
from tansy.engine.kernels.squares import mean_squares
print(mean_squares._cache.cache_path)
"""
    usual = {key: value for key, value in os.environ.items() if key not in ("NUMBA_CACHE_DIR", "TANSY_DATA")}
    nowhere = {"HOME": str(tmp_path / "a file")}

    def kept(**own: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-c", code], env={**usual, **own}, capture_output=True, text=True)

    assert kept(HOME=str(tmp_path)).stdout.startswith(f"{tmp_path}/.cache/tansy/")
    assert kept(**nowhere, TANSY_DATA=str(tmp_path / "data")).stdout.startswith(f"{free}/")
    assert "set NUMBA_CACHE_DIR" in kept(**nowhere).stderr

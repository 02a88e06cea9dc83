"""The audit of packages: faults end it with 1, and what could not be looked up is never said to be none."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

AUDIT = Path(__file__).parents[2] / ".ci" / "audit"
FAULT = {"id": "X-1", "fix_versions": ["2.0"]}
NOT_SEEN = {"dependencies": [{"name": "numpy", "skip_reason": "not found"}]}
SOUND = {"dependencies": [{"name": "numpy", "version": "1.0", "vulns": []}]}
FAULTY = {"dependencies": [{"name": "numpy", "version": "1.0", "vulns": [FAULT]}]}
REFUSED = {"error": {"code": "E405"}}
CLEAN: dict[str, Any] = {"vulnerabilities": {}}


@pytest.mark.parametrize(
    ("python", "front_end", "code", "said"),
    [
        (NOT_SEEN, REFUSED, 0, ["Python packages: SKIPPED", "front end: SKIPPED"]),
        (SOUND, CLEAN, 0, ["Python packages: 2 of ", "front end: looked up"]),
        (FAULTY, CLEAN, 1, ["numpy 1.0: X-1; mended in: 2.0"]),
        (SOUND, {"vulnerabilities": {"react": {"severity": "high"}}}, 1, ["react: high"]),
        ("not JSON", CLEAN, 0, ["Python packages: SKIPPED"]),
    ],
)
def test_the_audit_says_what_it_saw(python: Any, front_end: Any, code: int, said: list[str], tmp_path: Path) -> None:
    for name, answer in (("auditor", python), ("npm", front_end)):
        path = tmp_path / name
        path.write_text(f"#!/bin/sh\ncat <<'END'\n{json.dumps(answer)}\nEND\n")
        path.chmod(0o755)
    env = {**os.environ, "PATH": f"{tmp_path}:{os.environ['PATH']}"}
    done = subprocess.run(
        [sys.executable, str(AUDIT), str(tmp_path / "auditor")], env=env, capture_output=True, text=True, check=False
    )
    assert done.returncode == code, done.stderr
    assert all(one in done.stdout for one in said), done.stdout

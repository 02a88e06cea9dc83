"""The wheel by itself: unpacked where no code of the project is, it serves the front end."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import urllib.request
import zipfile
from email import message_from_bytes
from pathlib import Path

from tests.server.test_serving import free_port, until

ROOT = Path(__file__).parents[2]


def test_a_wheel_brings_the_front_end_and_names_what_it_needs(tmp_path: Path) -> None:
    command = [sys.executable, "-m", "pip", "wheel", "--quiet", "--no-deps", "--no-build-isolation", "--wheel-dir"]
    shutil.rmtree(ROOT / "build", ignore_errors=True)  # what an earlier wheel had, and this one must not
    subprocess.run([*command, str(tmp_path), str(ROOT)], check=True, timeout=300)
    shutil.rmtree(ROOT / "build", ignore_errors=True)
    (wheel,) = tmp_path.glob("*.whl")
    assert wheel.name.startswith("tansy_bench-")
    with zipfile.ZipFile(wheel) as archive:
        names = archive.namelist()
        archive.extractall(tmp_path / "installed")
        (told,) = [name for name in names if name.endswith(".dist-info/METADATA")]
        needs = message_from_bytes(archive.read(told)).get_all("Requires-Dist", [])
    assert "tansy/server/page/index.html" in names
    assert any(name.startswith("tansy/server/page/assets/") and name.endswith(".js") for name in names)
    assert not [name for name in names if name.startswith(("tests", "bench", "web"))]
    assert {"numpy", "waitress", "polars"} <= set(needs) and len(needs) > 15
    port, home = free_port(), tmp_path / "home"
    env = {
        "PATH": os.environ["PATH"], "HOME": str(home), "PYTHONPATH": str(tmp_path / "installed"),
        "NUMBA_CACHE_DIR": str(tmp_path / "numba"),
    }  # fmt: skip
    served = subprocess.Popen([sys.executable, "-m", "tansy.cli", "serve", "--port", str(port)], env=env, cwd=tmp_path)

    def page(path: str) -> str:
        try:
            with urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=5) as answer:
                return str(answer.read().decode())
        except OSError:
            return ""

    try:
        assert until(lambda: "/static/assets/" in page("/"))
        asset = page("/").split('src="')[1].split('"')[0]
        assert len(page(asset)) > 10_000
        assert '"user":null' in page("/api/session/")
        # what is kept lies with the person, not among installed packages
        assert (home / ".local" / "share" / "tansy" / "data" / "tansy.sqlite3").exists()
    finally:
        served.terminate()
        served.wait(timeout=40)

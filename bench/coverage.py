"""The coverage picture of 30,000 series: drawn in 1 s, at most 12 ms of scripting per frame while scrolling.

python -m bench.coverage [--series N]
"""

from __future__ import annotations

import argparse
import os
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import CDPSession, Page, sync_playwright

from bench.load import write

PASSWORD = "coverage-of-history"
FRAMES = 120

_LOAD = f"""
import sys
from pathlib import Path
import django
django.setup()
from django.contrib.auth.models import User
from tansy.engine.reading.history import read_panel
from tansy.engine.reading.options import ReadOptions
from tansy.server.portfolios.services import store
from tansy.server.serving import migrate
migrate()
user = User.objects.create_user("bench", password="{PASSWORD}")
store(read_panel(Path(sys.argv[1]), ReadOptions()), "bench", "sales.csv", "", user)
"""


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--series", type=int, default=30_000)
    arguments, _ = parser.parse_known_args()
    with tempfile.TemporaryDirectory() as name, socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
        free.close()
        path = Path(name) / "sales.csv"
        write(path, arguments.series, 156)
        env = {**os.environ, "TANSY_DATA": f"{name}/data", "DJANGO_SETTINGS_MODULE": "tansy.server.settings"}
        subprocess.run([sys.executable, "-c", _LOAD, str(path)], env=env, check=True)
        server = subprocess.Popen([sys.executable, "-m", "tansy.cli", "serve", "--port", str(port)], env=env)
        try:
            _wait(f"http://127.0.0.1:{port}")
            _measure(f"http://127.0.0.1:{port}")
        finally:
            server.terminate()
            server.wait()


def _wait(address: str) -> None:
    deadline = time.monotonic() + 60
    while time.monotonic() < deadline:
        try:
            urllib.request.urlopen(address).read()
            return
        except OSError:
            time.sleep(0.2)


def _scripting(session: CDPSession) -> float:
    """Seconds of script that the page has run so far."""
    metrics = session.send("Performance.getMetrics")["metrics"]
    return float(next(metric["value"] for metric in metrics if metric["name"] == "ScriptDuration"))


def _scroll(page: Page) -> int:
    """Scroll through all rows, a step per frame; how many frames it took."""
    return int(
        page.evaluate(
            """frames => new Promise(done => {
                const box = document.querySelector('[role=application]');
                const step = (box.scrollHeight - box.clientHeight) / frames;
                let n = 0;
                const next = () => {
                    box.scrollTop += step;
                    if (++n < frames) requestAnimationFrame(next); else done(n);
                };
                requestAnimationFrame(next);
            })""",
            FRAMES,
        )
    )


def _measure(address: str) -> None:
    flags = "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking"
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=flags.split())
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        page.goto(address)
        page.get_by_label("Name").fill("bench")
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.wait_for_url(lambda url: "sign-in" not in url)
        drawn, answered = [], []
        for _ in range(5):
            page.goto(f"{address}/p/1/intake/coverage")
            page.wait_for_selector("canvas[data-painted]", timeout=60_000)
            found = page.evaluate(
                """() => {
                    const answer = performance.getEntriesByType('resource').find(e => e.name.endsWith('/coverage/'));
                    const painted = performance.getEntriesByName('coverage-painted')[0].startTime;
                    return [painted - answer.responseEnd, answer.responseEnd - answer.startTime];
                }"""
            )
            drawn.append(found[0])
            answered.append(found[1])
        session = page.context.new_cdp_session(page)
        session.send("Performance.enable")
        for height in ("rows", "large rows"):
            page.get_by_role("button", name=height, exact=True).click()
            page.wait_for_timeout(300)
            before = _scripting(session)
            frames = _scroll(page)
            per_frame = 1000 * (_scripting(session) - before) / frames
            print(f"scrolling by {height}: {per_frame:.1f} ms of scripting per frame (promised: 12)")
        rows = page.get_by_role("application").get_attribute("aria-label")
        print(
            f"{rows.split(';')[0] if rows else ''}: answered in {statistics.median(answered):.0f} ms, "
            f"drawn in {statistics.median(drawn):.0f} ms after that (promised: 1,000)"
        )
        browser.close()


if __name__ == "__main__":
    main()

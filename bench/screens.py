"""What a planner waits for on the demo portfolio: answers, first paint, and the size of the first screen.

python -m bench.screens          (after `make demo` has made the demo data)
"""

from __future__ import annotations

import gzip
import http.cookiejar
import json
import os
import shutil
import socket
import statistics
import subprocess
import sys
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).resolve().parents[1]
TRIES = 15
_PAINTED = """
          const frame = () => new Promise((done) => requestAnimationFrame(done));
          const pause = (ms) => new Promise((done) => setTimeout(done, ms));
          const painted = async () => {
            while (![...document.querySelectorAll('.chart')].every((one) => one.dataset.painted)) await frame();
          };
"""


def main() -> None:
    data = Path(os.environ.get("TANSY_DATA", ROOT / "var" / "demo"))
    if not (data / "demo.json").exists():
        raise SystemExit(f"{data} holds no demo; run `make demo` first.")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    address = f"http://127.0.0.1:{port}"
    env = {**os.environ, "TANSY_DATA": str(data)}
    server = subprocess.Popen([sys.executable, "-m", "tansy.cli", "serve", "--port", str(port)], env=env)
    try:
        deadline = time.monotonic() + 60
        while time.monotonic() < deadline:
            try:
                urllib.request.urlopen(address).read()
                break
            except OSError:
                time.sleep(0.2)
        answers(address)
        first_paint(address)
    finally:
        server.terminate()
        server.wait()
    size()


def answers(address: str) -> None:
    """Median milliseconds of the answers, gzip and all, over loopback."""
    jar = http.cookiejar.CookieJar()
    opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(jar))
    opener.open(address).read()
    token = next(cookie.value for cookie in jar if cookie.name == "csrftoken") or ""
    sign_in = urllib.request.Request(
        f"{address}/api/session/",
        data=json.dumps({"username": "demo", "password": "hollowmere"}).encode(),
        headers={"Content-Type": "application/json", "X-CSRFToken": token, "Referer": address},
    )
    opener.open(sign_in).read()
    for name, path, promised in (
        ("Field", "/api/studies/1/field/", "300"),
        ("Series, the total", "/api/studies/1/nodes/0/", "150"),
        ("Series, a product in a centre", "/api/studies/1/nodes/4000/", "150"),
        ("Look", "/api/studies/1/nodes/60/look/?d=1&seasonal_d=1", "200"),
        ("Fit, one model", "/api/studies/1/nodes/60/fit/?method=arima(1,0,1)(0,1,1)52", "200"),
        ("Drivers, a product in a centre", "/api/studies/1/nodes/4000/drivers/", "-"),
        ("Backtest and Structure", "/api/studies/1/summary/", "-"),
        ("Releases, with all checks", "/api/studies/1/draft/", "-"),
    ):
        times = []
        for _ in range(TRIES):
            began = time.perf_counter()
            request = urllib.request.Request(address + path, headers={"Accept-Encoding": "gzip"})
            content = opener.open(request).read()
            times.append(1000 * (time.perf_counter() - began))
        print(f"{name:32s} median {statistics.median(times):6.1f} ms (promised: {promised}), {len(content):,} bytes")


def first_paint(address: str) -> None:
    """From the address to cells on the screen, signed in, with a cold and a warm cache of the browser."""
    flags = "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking"
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=flags.split())
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        page = context.new_page()
        page.goto(address)
        page.get_by_text("Fill them in").click()
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("gridcell").first.wait_for()
        field, state = page.url, context.storage_state()

        def paint(fresh: bool) -> float:
            nonlocal page
            if fresh:
                page = browser.new_context(viewport={"width": 1280, "height": 800}, storage_state=state).new_page()
            page.goto(field)
            page.get_by_role("gridcell").first.wait_for()
            return float(page.evaluate("performance.getEntriesByName('field-painted')[0].startTime"))

        cold = [paint(True) for _ in range(5)]
        warm = [paint(False) for _ in range(5)]
        print(f"Field, first paint of its cells   median {statistics.median(cold):.0f} ms cold, "
              f"{statistics.median(warm):.0f} ms warm (promised: 1,500)")  # fmt: skip
        follow_the_hand(page, address)
        move_the_origin(page, address)
        browser.close()


def follow_the_hand(page: Page, address: str) -> None:
    """From a move of the slider of Try it to both pictures painted anew, estimates of one try included."""
    page.goto(f"{address}/p/1/s/1/series/60?page=try")
    page.get_by_label("Method", exact=True).select_option("ets(A,N,N)")
    page.get_by_role("checkbox", name="estimate").first.uncheck()
    page.wait_for_timeout(1000)
    times = page.evaluate(
        "async () => {"
        + _PAINTED
        + """
          const slider = document.getElementById('field-alpha');
          const set = Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value').set;
          const times = [];
          for (let i = 1; i <= 21; i++) {
            const alpha = (0.1 + 0.031 * i).toFixed(3).replace(/0+$/, '');
            const began = performance.now();
            set.call(slider, alpha);
            slider.dispatchEvent(new Event('input', { bubbles: true }));
            while (!document.querySelector('figcaption').innerText.includes(alpha)) await frame();
            await painted();
            times.push(performance.now() - began);
            await pause(200);
          }
          return times;
        }"""
    )
    print(f"Try it, from the hand to the pictures: median {statistics.median(times):.0f} ms, "
          f"most {max(times):.0f} (promised: 100)")  # fmt: skip


def move_the_origin(page: Page, address: str) -> None:
    """From an arrow key to the picture painted with another origin's forecast."""
    page.goto(f"{address}/p/1/s/1/series/60")
    page.get_by_role("slider").wait_for()
    page.wait_for_timeout(1000)
    page.keyboard.press("ArrowLeft")
    page.wait_for_timeout(500)
    times = page.evaluate(
        "async () => {"
        + _PAINTED
        + """
          const at = () => document.querySelector('[role=slider]').getAttribute('aria-valuetext');
          const times = [];
          for (let i = 0; i < 20; i++) {
            const before = at();
            const began = performance.now();
            const key = Math.floor(i / 4) % 2 ? 'ArrowRight' : 'ArrowLeft';
            window.dispatchEvent(new KeyboardEvent('keydown', { key, bubbles: true }));
            while (at() === before) await frame();
            await painted();
            await frame();
            times.push(performance.now() - began);
            await pause(100);
          }
          return times;
        }"""
    )
    print(f"Series, from an arrow key to another origin's picture: median {statistics.median(times):.0f} ms, "
          f"most {max(times):.0f} (promised: 80)")  # fmt: skip


def size() -> None:
    """Gzipped size of what the first screen (the Field) loads: page, style, script and the Latin face."""
    dist = ROOT / "web" / "dist"
    page = (dist / "index.html").read_text()
    files = [dist / part.split('"')[0] for part in page.split("/static/")[1:]]
    files += list((dist / "assets").glob("source-sans-3-latin-wght-normal*.woff2"))
    total = sum(len(gzip.compress(file.read_bytes(), 9)) for file in files)
    print(f"first screen: {total / 1000:.0f} kB gzipped (promised: under 450 kB)")


if __name__ == "__main__":
    main()

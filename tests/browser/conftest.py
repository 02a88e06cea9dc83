"""The real server and its worker on a folder of their own, and a real Chromium."""

from __future__ import annotations

import os
import re
import shutil
import socket
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect, sync_playwright

from tests.browser.steps import LOOK_AT_IT

expect.set_options(timeout=30_000)  # a busy machine is slow, not wrong

USER, PASSWORD = "ines", "quiet-garden"
_FLAGS = (
    "--headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync"
)


@pytest.fixture(scope="session")
def address(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    folder = tmp_path_factory.mktemp("served")
    env = {**os.environ, "TANSY_DATA": str(folder), "DJANGO_SUPERUSER_PASSWORD": PASSWORD}
    tansy = [sys.executable, "-m", "tansy.cli"]
    subprocess.run([*tansy, "admin", "migrate", "--verbosity", "0"], env=env, check=True)
    subprocess.run(
        [*tansy, "admin", "createsuperuser", "--noinput", "--username", USER, "--email", "i@example.org"],
        env=env, check=True, stdout=subprocess.DEVNULL,
    )  # fmt: skip
    server = subprocess.Popen([*tansy, "serve", "--port", str(port)], env=env)
    url = f"http://127.0.0.1:{port}"
    deadline = time.monotonic() + 120
    while True:
        assert server.poll() is None and time.monotonic() < deadline, "the server did not start"
        try:
            urllib.request.urlopen(url, timeout=2).read()
            break
        except OSError:
            time.sleep(0.2)
    yield url
    server.terminate()
    server.wait(timeout=30)


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    chromium = shutil.which("chromium")
    assert chromium, "Chromium is missing: run `make test`, which installs it, or `apt-get install chromium`."
    with sync_playwright() as playwright:
        started = playwright.chromium.launch(executable_path=chromium, args=_FLAGS.split())
        yield started
        started.close()


@pytest.fixture
def page(browser: Browser, address: str) -> Iterator[Page]:
    """A fresh page, signed in by hand; a script error on it fails the test. Waiting evaluates texts as scripts, which
    the content policy forbids: `test_screens` has a page that keeps to it."""
    size = {"width": 1280, "height": 800}
    context = browser.new_context(viewport=size, accept_downloads=True, bypass_csp=True)  # type: ignore[arg-type]
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.goto(address)
    opened.get_by_label("Name").fill(USER)
    opened.get_by_label("Password").fill(PASSWORD)
    opened.get_by_role("button", name="Sign in").click()
    opened.get_by_role("navigation", name="Places").wait_for()
    opened.wait_for_url(re.compile(r"/(intake|p/)"))  # the start leads on to the newest portfolio
    yield opened
    opened.goto("about:blank")
    context.close()
    assert not errors


@pytest.fixture
def files(tmp_path: Path) -> Path:
    from tests.garden import DRIVERS, PRODUCTS, SALES

    (tmp_path / "sales.csv").write_text(SALES)
    (tmp_path / "products.csv").write_text(PRODUCTS)
    (tmp_path / "drivers.csv").write_text(DRIVERS)
    return tmp_path


@pytest.fixture
def garden(page: Page, files: Path) -> dict[str, int]:
    """Numbers of a portfolio with drivers, of its finished study, and of a node in a store; made once."""
    return _planted(page, files, "Garden to look at")


@pytest.fixture
def own_garden(page: Page, files: Path) -> dict[str, int]:
    """Another one, in which forecasts may be changed and published."""
    return _planted(page, files, "Garden to change")


@pytest.fixture
def weighed_garden(page: Page, files: Path) -> dict[str, int]:
    """A third one, with several studies of the same periods."""
    return _planted(page, files, "Garden to weigh")


@pytest.fixture
def pruned_garden(page: Page, files: Path) -> dict[str, int]:
    """A fourth one, whose structure is tried."""
    return _planted(page, files, "Garden to prune")


def _planted(page: Page, files: Path, name: str) -> dict[str, int]:
    def post(path: str, **sent: Any) -> Any:
        cookies = {one["name"]: one["value"] for one in page.context.cookies()}
        answer = page.request.post(path, headers={"X-CSRFToken": cookies["csrftoken"], "Referer": page.url}, **sent)
        assert answer.ok, answer.text()
        return answer.json()

    base = re.sub(r"(https?://[^/]+).*", r"\1/api", page.url)
    all_of_them = page.request.get(f"{base}/portfolios/").json()
    found = next((one for one in all_of_them if one["name"] == name), None)
    if found is None:
        page.goto(f"{base[:-4]}/intake")
        page.get_by_label(re.compile("^Sales")).set_input_files(files / "sales.csv")
        page.get_by_label(re.compile("^Attributes, drivers and edges")).set_input_files(
            [files / "products.csv", files / "drivers.csv"]
        )
        page.get_by_role("button", name=LOOK_AT_IT).click()
        page.wait_for_url(re.compile(r"/intake/\d+$"))
        upload = page.url.rsplit("/", 1)[1]
        found = post(f"{base}/uploads/{upload}/load/", data={"name": name, "options": {}})
        post(f"{base}/portfolios/{found['id']}/studies/", data={})
        post(f"{base}/portfolios/{found['id']}/searches/", data={})
    deadline = time.monotonic() + 180
    while True:
        (study, *_) = page.request.get(f"{base}/portfolios/{found['id']}/studies/").json()
        if study["run"]["state"] == "done":
            break
        assert time.monotonic() < deadline and study["run"]["state"] in ("queued", "running"), study["run"]
        time.sleep(0.5)
    return {"portfolio": found["id"], "study": study["id"], "node": 20}

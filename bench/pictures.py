"""Take the pictures of docs/screenshots anew, from a demo that is served.

    tansy demo --port 8399 &
    python -m bench.pictures [--address http://127.0.0.1:8399] [--only field,series]

Nothing is changed in it: what a picture shows half done is dropped again.
"""

from __future__ import annotations

import argparse
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, sync_playwright

from tansy.demo.script import PASSWORD, USER

FOLDER = Path(__file__).parents[1] / "docs" / "screenshots"
PRODUCT, PLACE = "Planters", "Coast"


class Demo:
    """Where things of the demo are."""

    def __init__(self, page: Page, address: str) -> None:
        def get(path: str) -> Any:
            return page.request.get(f"{address}/api/{path}").json()

        self.portfolio = get("portfolios/")[0]["id"]
        done = [one for one in get(f"portfolios/{self.portfolio}/studies/") if one["run"]["state"] == "done"]
        self.study = done[0]["id"]
        field = get(f"studies/{self.study}/field/")
        row = next(i for i, one in enumerate(field["rows"]) if one["name"] == PRODUCT)
        column = next(i for i, one in enumerate(field["columns"]) if one["name"] == PLACE)
        places = zip(field["node"], field["row"], field["column"], strict=True)
        self.node = next(node for node, r, c in places if (r, c) == (row, column))

    def addresses(self) -> dict[str, str]:
        """Of each picture, by its name."""
        of, study = f"/p/{self.portfolio}", f"/p/{self.portfolio}/s/{self.study}"
        series = f"{study}/series/{self.node}"
        return {
            "intake": f"{of}/intake", "coverage": f"{of}/intake/coverage", "all-series": f"{of}/intake/all",
            "corrections": f"{of}/intake/corrections", "kinds": f"{of}/intake/kinds", "plans": f"{of}/intake/plans",
            "study": f"{of}/study", "field": f"{study}/field", "series": series, "adjust": f"{series}?adjust=1",
            "look": f"{series}?page=look", "fit": f"{series}?page=fit", "drivers": f"{series}?page=drivers",
            "workings": f"{series}?page=workings", "structure": f"{study}/structure", "backtest": f"{study}/backtest",
            "releases": f"{of}/releases", "track": f"{of}/releases?page=track", "people": f"{of}/people",
        }  # fmt: skip


def _adjust(page: Page) -> None:
    page.get_by_label("First period").select_option(index=2)
    page.get_by_label("Last period").select_option(index=5)
    page.get_by_label("Amount", exact=True).fill("20")


def _workings(page: Page) -> None:
    """Of a method that needs nothing else to be worked out."""
    box = page.get_by_role("textbox").first
    box.fill("ets(A,Ad,N)")
    box.press("Enter")


BEFORE: dict[str, Callable[[Page], None]] = {"adjust": _adjust, "workings": _workings}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--address", default="http://127.0.0.1:8399")
    parser.add_argument("--only", default="", help="Names, with commas between them.")
    given, _ = parser.parse_known_args()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=["--no-sandbox"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(given.address)
        page.get_by_label("Name").fill(USER)
        page.get_by_label("Password").fill(PASSWORD)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("navigation", name="Places").wait_for()
        for name, path in Demo(page, given.address).addresses().items():
            if given.only and name not in given.only.split(","):
                continue
            theme = "night" if name == "look" else "paper"
            page.evaluate(f"localStorage.setItem('tansy-theme', '{theme}')")
            page.goto(given.address + path, wait_until="networkidle")
            page.get_by_role("heading", level=1).wait_for()
            page.wait_for_timeout(1500)  # pictures are drawn after their numbers have come
            if name in BEFORE:
                BEFORE[name](page)
                page.wait_for_timeout(1500)
            page.screenshot(path=FOLDER / f"{name}.png")
            print(name, flush=True)
        browser.close()


if __name__ == "__main__":
    main()

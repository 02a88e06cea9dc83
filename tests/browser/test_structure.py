"""A structure pruned and lumped with real clicks, run as a study of its own, and held beside the whole one."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.browser.steps import settle
from tests.browser.test_screens import readable


def test_a_structure_is_pruned_run_and_compared(page: Page, address: str, pruned_garden: dict[str, int]) -> None:
    portfolio, study = pruned_garden["portfolio"], pruned_garden["study"]
    page.goto(f"{address}/p/{portfolio}/s/{study}/structure")
    settle(page)
    total = page.get_by_role("button", name=re.compile("^all × all"))
    expect(total).to_contain_text("1 node, 100 %")
    total.click()
    expect(total).to_have_attribute("aria-pressed", "true")

    # what is wrong is said while it is typed; what is right is counted
    other = page.get_by_role("region", name="Another structure")
    formula = other.get_by_label(re.compile("^Levels"))
    formula.fill("group > product * shelf")
    expect(other.get_by_role("alert")).to_contain_text("There is no attribute 'shelf'")
    expect(other.get_by_role("button", name="Run a study with it")).to_be_disabled()
    formula.fill("(group > product) * store")
    counted = other.get_by_role("row", name=re.compile("^product × store"))
    expect(counted).to_contain_text("18")
    other.get_by_role("checkbox", name=re.compile("^Prune")).check()
    limit = other.get_by_label(re.compile("^Mean per period"))
    limit.fill("14")
    other.get_by_label("Percent that must qualify").fill("20")
    expect(other.get_by_text(re.compile("are worth a forecast, [1-9]"))).to_be_visible()
    readable(page, "another structure")
    other.get_by_role("button", name="Run a study with it").click()
    newest = page.get_by_role("row", name=re.compile("other structure"))
    expect(newest.get_by_role("cell", name="done")).to_be_visible(timeout=120_000)
    pruned = page.request.get(f"{address}/api/portfolios/{portfolio}/studies/").json()[0]["id"]

    # the pruned one adds up, tells what has a share, and its lumps can be opened
    page.goto(f"{address}/p/{portfolio}/s/{pruned}/structure")
    settle(page)
    expect(page.get_by_text("(zero to rounding)")).to_be_visible()
    expect(page.get_by_text(re.compile("series have no forecast of their own"))).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^other"))).to_be_visible()
    expect(page.get_by_role("region", name="RMSSE by level")).to_contain_text("shrinkage")
    readable(page, "a pruned structure")
    page.goto(f"{address}/p/{portfolio}/s/{pruned}/field")
    settle(page)

    # beside the whole one
    page.goto(f"{address}/p/{portfolio}/compare/{study}/{pruned}")
    expect(page.get_by_role("heading", name=re.compile("every product × every store"))).to_be_visible()

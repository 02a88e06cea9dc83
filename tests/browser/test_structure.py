"""A structure followed, drawn by hand, pruned and lumped with real clicks, run as a study, held beside the whole."""

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

    page.get_by_label("Shown down to, product").select_option("group")
    expect(page.get_by_text(re.compile("^[0-9]+ of [0-9]+ levels$"))).to_be_visible()

    # a node is followed down to a series, by an address of its own, and up again
    one = page.get_by_role("region", name="One node")
    one.get_by_role("link", name="every product × North").click()
    expect(one.get_by_role("link", name="every product × every store")).to_be_visible()
    expect(page).to_have_url(re.compile(r"\?node=[0-9a-f]{16}$"))
    for name in ("every product × S1", "Herbs × S1", "Plant 0 × S1"):
        one.get_by_role("link", name=name).click()
    expect(one.get_by_text("It is a series; nothing lies below it.")).to_be_visible()
    one.get_by_role("link", name="Herbs × S1").click()
    readable(page, "a node followed")

    # rows by hand are counted, and what no row holds is told
    other = page.get_by_role("region", name="Another structure")
    other.get_by_role("radio", name="drawn by hand").check()
    other.get_by_label("Total, row 1").fill("Two shops")
    other.get_by_label("What lies below it, row 1").fill("store: S9")
    expect(other.get_by_role("alert")).to_contain_text("Row 1: no series has the store 'S9'")
    other.get_by_label("What lies below it, row 1").fill("store: S1")
    other.get_by_role("button", name="Add a row").click()
    other.get_by_label("Total, row 2").fill("Two shops")
    other.get_by_label("What lies below it, row 2").fill("store: S2")
    expect(other.get_by_text("6 series are in no row, and stand below “in no row”")).to_be_visible()
    expect(other.get_by_role("button", name="Run a study with it")).to_be_enabled()
    settle(page)
    readable(page, "rows by hand")
    other.get_by_role("radio", name="by levels").check()

    # what is wrong is said while it is typed; what is right is counted
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
    other.get_by_role("checkbox", name="4 weeks").check()
    limit.fill("56")
    expect(other.get_by_text(re.compile("[1-9][0-9]* in longer periods only"))).to_be_visible()
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
    expect(page.get_by_role("region", name="RMSSE by level")).to_contain_text("time levels")
    expect(page.get_by_role("region", name="What bands hold")).to_contain_text("joint paths")
    readable(page, "a pruned structure")
    page.goto(f"{address}/p/{portfolio}/s/{pruned}/field")
    settle(page)

    # beside the whole one
    page.goto(f"{address}/p/{portfolio}/compare/{study}/{pruned}")
    expect(page.get_by_role("heading", name=re.compile("every product × every store"))).to_be_visible()

"""What if prices or promotions were others: two studies beside each other, a part taken over, and others told of it."""

from __future__ import annotations

import re
from pathlib import Path

import polars as pl
from playwright.sync_api import Page, expect

from tansy.engine.timeline import label
from tests.browser.steps import settle
from tests.browser.test_screens import readable
from tests.garden import FIRST_WEEK, N_WEEKS


def test_a_promotion_is_tried_and_its_part_taken_over(
    page: Page, address: str, weighed_garden: dict[str, int], tmp_path: Path
) -> None:
    portfolio, study = weighed_garden["portfolio"], weighed_garden["study"]
    base = f"{address}/p/{portfolio}"

    # a plan of all, and a promotion that one study alone has
    page.goto(f"{base}/intake/plans")
    page.get_by_role("button", name="public holidays").click()
    page.get_by_label("Country, or country and region").fill("de-xx")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("There is no region 'XX'")
    page.get_by_label("Country, or country and region").fill("de-by")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.get_by_role("cell", name="public holidays of DE-BY, as holiday", exact=True)).to_be_visible()
    page.get_by_role("button", name="Drop: public holidays of DE-BY, as holiday").click()
    page.goto(f"{base}/study")
    page.get_by_role("button", name="what if").first.click()
    asked = page.get_by_role("dialog")
    asked.get_by_label("Name", exact=True).fill("Herbs on promotion")
    asked.get_by_text("Other prices or promotions").click()
    asked.get_by_role("combobox", name="Driver").select_option("promotion")
    asked.get_by_label("Amount").fill("1")
    asked.get_by_label("Last period").fill(label(FIRST_WEEK + N_WEEKS + 3, "W"))
    asked.get_by_label("group", exact=True).fill("Herbs")
    asked.get_by_role("button", name="Put it in").click()
    expect(asked.get_by_text(re.compile("promotion of Herbs is 1, until"))).to_be_visible()
    asked.get_by_role("button", name="Run it").click()
    newest = page.get_by_role("row", name=re.compile("Herbs on promotion"))
    expect(newest.get_by_role("cell", name="done")).to_be_visible(timeout=120_000)
    other = page.request.get(f"{address}/api/portfolios/{portfolio}/studies/").json()[0]["id"]

    # beside each other, and a group taken over, series by series
    for row in page.get_by_role("checkbox", name=re.compile("^Compare ")).all():
        row.check()
    page.get_by_role("link", name="Compare the two").click()
    page.wait_for_url(re.compile(rf"/compare/{study}/{other}$"))
    page.get_by_role("button", name=re.compile("^group × all")).click()
    herbs = page.get_by_role("row", name=re.compile("^Herbs × every store"))
    expect(herbs).to_contain_text("+")
    herbs.get_by_role("button", name=re.compile("^Draw")).click()
    expect(page.get_by_role("heading", name="Herbs × every store, period by period")).to_be_visible()
    herbs.get_by_role("button", name=re.compile("^Take")).click()
    taking = page.get_by_role("dialog")
    taking.get_by_role("button", name="series by series, as there").click()
    expect(taking.get_by_text(re.compile(r"Herbs × every store: .* of 18 series change"))).to_be_visible()
    taking.get_by_role("button", name="Take it").click()
    expect(taking).to_have_count(0)
    expect(herbs.get_by_role("cell").nth(3)).to_have_text("0")

    # what was made at once is listed in short, and withdrawn at once
    page.goto(f"{base}/s/{study}/field")
    settle(page)
    page.goto(f"{base}/releases")
    listed = page.get_by_role("region", name="Adjustments", exact=True)
    expect(listed.get_by_text(re.compile(r"\d+ were made at once"))).to_be_visible()
    expect(listed.get_by_role("row")).to_have_count(6)
    for theme in ("night", "paper"):
        page.evaluate(f"localStorage.setItem('tansy-theme', '{theme}')")
        page.goto(f"{base}/releases")
        settle(page)
        readable(page, f"releases in {theme}")
    listed.get_by_role("button", name="Withdraw all").click()
    expect(listed.get_by_text("withdrawn")).to_have_count(4)

    # published: another system is told, and does not hear; paths are downloaded
    page.get_by_label("Address").fill("http://127.0.0.1:9/orders")
    page.get_by_role("button", name="Tell it").click()
    told = page.get_by_role("region", name="Telling other systems")
    expect(told.get_by_text("it is not shown again")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Publish R")).click()
    expect(told.get_by_text(re.compile("a release not heard after 1 try"))).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Paths").first.click()
    download.value.save_as(tmp_path / "paths.parquet")
    paths = pl.read_parquet(tmp_path / "paths.parquet")
    assert paths.columns == ["product", "store", "period", "lead", "path", "value"]
    assert paths["path"].max() == 200 and paths.height == 18 * 13 * 200
    told.get_by_role("button", name=re.compile("no more$")).click()
    expect(told.get_by_role("listitem")).to_have_count(0)

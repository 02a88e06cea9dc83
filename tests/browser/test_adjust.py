"""A forecast changed by hand: typed, dragged, for many nodes, with locks, undone; published, withdrawn, and tracked."""

from __future__ import annotations

import re
from pathlib import Path

import polars as pl
from playwright.sync_api import Page, expect

from tansy.engine.timeline import label
from tests.browser.steps import painted, settle
from tests.browser.test_screens import readable
from tests.garden import FIRST_WEEK, N_WEEKS


def number(text: str) -> float:
    return float(text.replace(",", "").replace("−", "-"))


def total_of(page: Page) -> list[float]:
    """The forecasts in the table, by lead."""
    table = page.get_by_role("region", name="What would be published")
    at = table.get_by_role("columnheader").all_inner_texts().index("Forecast")
    rows = table.get_by_role("row").all()[1:]
    return [number(row.get_by_role("cell").nth(at).inner_text()) for row in rows]


def test_a_change_is_typed_dragged_locked_undone_and_published(
    page: Page, address: str, own_garden: dict[str, int], tmp_path: Path
) -> None:
    study = f"{address}/p/{own_garden['portfolio']}/s/{own_garden['study']}"
    page.goto(f"{study}/series/top")
    painted(page, "history, forecast and bands")
    before = total_of(page)
    page.get_by_role("button", name="Adjust", exact=True).click()
    panel = page.get_by_role("region", name="Adjust", exact=True)

    # over all periods, by percent
    panel.get_by_label("Amount").fill("10")
    expect(panel.get_by_text(re.compile(r"in all \("))).to_be_visible()
    keep = panel.get_by_role("button", name="Keep this change")
    expect(keep).to_be_disabled()
    panel.get_by_label("Reason").fill("spring fair")
    keep.click()
    expect(page.get_by_role("region", name="Adjusted", exact=True)).to_contain_text("spring fair")

    # typed over in the table, and pasted from a sheet
    cells = page.get_by_role("textbox", name=re.compile("^Forecast of "))
    cells.nth(1).fill("500")
    expect(panel.get_by_text(re.compile(r"in all \("))).to_be_visible()
    cells.nth(2).evaluate(
        """cell => { const data = new DataTransfer(); data.setData("text", "510\\n520");
        cell.dispatchEvent(new ClipboardEvent("paste", {clipboardData: data, bubbles: true, cancelable: true})); }"""
    )
    expect(cells.nth(3)).to_have_value("520")
    panel.get_by_label("Reason").fill("agreed with the buyers")
    expect(keep).to_be_enabled()
    keep.click()
    expect(cells.nth(1)).to_have_value("500")

    # dragged in the picture
    handle = page.get_by_role("slider", name=re.compile("^Forecast of ")).nth(5)
    handle.scroll_into_view_if_needed()
    box = handle.bounding_box()
    assert box is not None
    page.mouse.move(box["x"] + 6, box["y"] + 6)
    page.mouse.down()
    page.mouse.move(box["x"] + 6, box["y"] - 40, steps=5)
    page.mouse.up()
    expect(panel.get_by_text(re.compile(r"in all \(\+"))).to_be_visible()
    panel.get_by_role("button", name="Drop it").click()

    # around what is locked: it cannot be met, and says so
    panel.get_by_label("Leave alone").fill("Herbs")
    page.get_by_role("button", name=re.compile(r"\+ Herbs × every store")).click()
    panel.get_by_label("Leave alone").fill("Ferns")
    page.get_by_role("button", name=re.compile(r"\+ Ferns × every store")).click()
    panel.get_by_label("Shared out").select_option(label="by reconciling all levels")
    panel.get_by_label("Amount").fill("-5")
    expect(panel.get_by_role("alert")).to_contain_text("The least that resolves it")
    panel.get_by_role("button", name="Drop it").click()

    # what stands adds up in the release and its file
    page.goto(f"{address}/p/{own_garden['portfolio']}/releases")
    listed = page.get_by_role("region", name="Adjustments", exact=True)
    expect(listed.get_by_text("laid over the forecast")).to_have_count(4)
    page.get_by_role("button", name=re.compile("^Publish R")).click()
    published = page.get_by_role("region", name="Published", exact=True)
    expect(published.get_by_text("4 adjustments")).to_be_visible()
    with page.expect_download() as download:
        published.get_by_role("link", name="Parquet").first.click()
    download.value.save_as(tmp_path / "release.parquet")
    rows = pl.read_parquet(tmp_path / "release.parquet")
    top = rows.filter(pl.col("level") == "all × all")["forecast"].to_list()
    assert [round(value, 6) for value in top[1:4]] == [500.0, 510.0, 520.0]
    finest = rows.filter(pl.col("level") == "product × store").group_by("lead").agg(pl.col("forecast").sum())
    summed = finest.sort("lead")["forecast"].to_list()
    assert max(abs(a - b) for a, b in zip(top, summed, strict=True)) < 1e-6

    # undone to where it began
    page.goto(f"{study}/series/top?adjust=1")
    painted(page, "history, forecast and bands")
    for left in (1, 0):
        page.keyboard.press("Control+z")
        if left:
            expect(page.get_by_role("region", name="Adjusted", exact=True)).to_contain_text("spring fair")
            expect(page.get_by_text("agreed with the buyers")).to_have_count(0)
        else:
            expect(page.get_by_role("region", name="Adjusted", exact=True)).to_have_count(0)
    page.get_by_role("button", name="Close").click()
    expect(page.get_by_role("button", name="Adjust", exact=True)).to_be_visible()
    assert total_of(page) == before

    # a release is withdrawn with a reason
    page.goto(f"{address}/p/{own_garden['portfolio']}/releases")
    page.get_by_role("button", name="Withdraw").first.click()
    page.get_by_role("textbox", name="Reason").fill("the fair is called off")
    page.get_by_role("button", name=re.compile("^Withdraw R")).click()
    expect(page.get_by_text(re.compile("the fair is called off"))).to_be_visible()


def test_many_are_changed_in_the_field_and_the_release_is_held_against_what_came(
    page: Page, address: str, own_garden: dict[str, int], tmp_path: Path
) -> None:
    portfolio = own_garden["portfolio"]
    page.goto(f"{address}/p/{portfolio}/s/{own_garden['study']}/field")
    grid = page.get_by_role("grid")
    grid.focus()
    for key in ("ArrowDown", "x", "ArrowRight", "x"):
        page.keyboard.press(key)
    panel = page.get_by_role("region", name="Adjust", exact=True)
    expect(panel.get_by_text("Adjust 2 nodes")).to_be_visible()
    panel.get_by_label("Amount").fill("25")
    panel.get_by_label("Reason").fill("more space for herbs")
    panel.get_by_role("button", name="Keep this change").click()
    expect(grid.get_by_role("gridcell", name=re.compile("adjusted"))).not_to_have_count(0)
    page.get_by_role("button", name="adjusted by planners").click()
    expect(grid.get_by_role("gridcell", name=re.compile(r"\+\d+ %"))).not_to_have_count(0)

    page.goto(f"{address}/p/{portfolio}/releases")
    publish = page.get_by_role("button", name=re.compile("^Publish R"))
    publish.click()
    expect(page.get_by_text(re.compile("is published as R"))).to_be_visible()

    # two weeks later
    weeks = [label(FIRST_WEEK + N_WEEKS + k, "W") for k in range(2)]
    places = [(p, s, "North" if s < 2 else "South") for p in range(6) for s in range(3)]
    rows = [f"{week},P{p},S{s},{region},{9 + p}" for week in weeks for p, s, region in places]
    (tmp_path / "later.csv").write_text("\n".join(["week,product,store,region,units", *rows]) + "\n")
    page.goto(f"{address}/p/{portfolio}/intake")
    page.get_by_label(re.compile("^Sales")).set_input_files(tmp_path / "later.csv")
    page.get_by_role("button", name="Add to Garden to change").click()
    page.wait_for_url(re.compile(r"/append/\d+$"))
    page.get_by_role("button", name="Add it", exact=True).click()
    page.wait_for_url(lambda url: "/append/" not in url)

    page.goto(f"{address}/p/{portfolio}/releases?page=track")
    expect(page.get_by_text(re.compile(r"2 of \d+ periods have come"))).to_be_visible()
    helped = page.get_by_role("region", name="What adjustments brought")
    expect(helped.get_by_text(re.compile("helped:|did harm:|made no difference")).first).to_be_visible()
    for theme in ("night", "paper"):
        page.evaluate(f"localStorage.setItem('tansy-theme', '{theme}')")
        for place in ("releases", "releases?page=track"):
            page.goto(f"{address}/p/{portfolio}/{place}")
            settle(page)
            readable(page, f"{place} in {theme}")
    with page.context.expect_page() as opened:
        page.get_by_role("link", name="Monthly report").click()
    report = opened.value
    expect(report.get_by_role("heading", level=1)).to_have_text("Garden to change")
    expect(report.get_by_text("more space for herbs").first).to_be_visible()
    pdf = report.pdf(format="A4")
    assert len(re.findall(rb"/Type\s*/Page\b", pdf)) in (1, 2)

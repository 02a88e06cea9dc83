"""Ways through the application and back: what was left is found as it was, links lead where they say, keys mean one
thing, and the table that would be published can be taken along."""

from __future__ import annotations

import re
from pathlib import Path

import polars as pl
from playwright.sync_api import Browser, Page, expect

from tests.browser.conftest import PASSWORD, USER
from tests.browser.steps import painted


def test_back_finds_the_field_and_the_page_as_they_were(page: Page, address: str, garden: dict[str, int]) -> None:
    study = f"{address}/p/{garden['portfolio']}/s/{garden['study']}"
    page.goto(f"{study}/field")
    grid = page.get_by_role("grid")
    rows = page.get_by_role("rowheader")
    expect(rows).not_to_have_count(0)
    all_rows = rows.count()
    grid.focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("Space")  # folds the first group
    expect(rows).not_to_have_count(all_rows)
    folded = rows.count()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowRight")
    cell = grid.get_attribute("aria-activedescendant")
    page.keyboard.press("Enter")
    page.get_by_role("heading", level=1).wait_for()
    painted(page, "history, forecast and bands")
    page.go_back()
    expect(grid).to_be_focused()
    expect(rows).to_have_count(folded)
    expect(grid).to_have_attribute("aria-activedescendant", str(cell))

    page.goto(f"{study}/series/{garden['node']}")
    page.get_by_role("button", name="Fit", exact=True).click()
    expect(page.get_by_role("region", name="Coefficients")).to_be_visible()
    page.get_by_role("button", name="Try it").click()
    painted(page, "Try A: history, fitted values, forecast and bands")
    page.go_back()
    expect(page.get_by_role("button", name="Fit", exact=True)).to_have_attribute("aria-pressed", "true")


def test_a_link_keeps_its_query_and_a_wrong_one_says_so(
    browser: Browser, page: Page, address: str, garden: dict[str, int]
) -> None:
    study = f"{address}/p/{garden['portfolio']}/s/{garden['study']}"
    context = browser.new_context()
    stranger = context.new_page()
    stranger.goto(f"{study}/field?lens=wape")
    stranger.get_by_label("Name").fill(USER)
    stranger.get_by_label("Password").fill(PASSWORD)
    stranger.get_by_role("button", name="Sign in").click()
    expect(stranger.get_by_role("button", name="error (WAPE)")).to_have_attribute("aria-pressed", "true")
    assert stranger.url.endswith("/field?lens=wape")
    context.close()

    page.goto(f"{address}/p/99999/s/{garden['study']}/field")
    expect(page.get_by_text("There is no such portfolio")).to_be_visible()
    page.goto(f"{address}/p/{garden['portfolio']}/s/99999/field")
    expect(page.get_by_text("There is no such study in this portfolio")).to_be_visible()


def test_keys_of_a_series_and_the_table_that_would_be_published(
    page: Page, address: str, garden: dict[str, int], tmp_path: Path
) -> None:
    page.goto(f"{address}/p/{garden['portfolio']}/s/{garden['study']}/series/{garden['node']}")
    painted(page, "history, forecast and bands")
    heading = page.get_by_role("heading", level=1)
    first = heading.inner_text()
    page.keyboard.press("j")
    expect(heading).not_to_have_text(first)
    page.keyboard.press("k")
    expect(heading).to_have_text(first)

    # arrows move the origin wherever the focus is, and the handle says where it stands
    handle = page.get_by_role("slider", name=re.compile("Origin"))
    most = int(handle.get_attribute("aria-valuemax") or 0)
    assert most > 2
    for k in range(most + 1):  # from the newest to the oldest, where it stays
        page.keyboard.press("ArrowLeft")
        expect(handle).to_have_attribute("aria-valuenow", str(max(most - k, 1)))
    expect(handle).to_have_attribute("aria-valuetext", re.compile(r"20\d\d-W\d\d"))
    page.keyboard.press("Escape")

    table = page.get_by_role("region", name="What would be published")
    head = table.get_by_role("columnheader").all_inner_texts()
    assert head[0] == "Period" and "Forecast" in head and "95 % high" in head
    shown = [row.get_by_role("cell").all_inner_texts() for row in table.get_by_role("row").all()[1:]]
    with page.expect_download() as download:
        table.get_by_role("button", name=re.compile("CSV")).click()
    download.value.save_as(tmp_path / "ahead.csv")
    kept = pl.read_csv(tmp_path / "ahead.csv")
    assert kept.columns == head and kept["Period"].to_list() == [row[0] for row in shown]
    at = head.index("Forecast")
    for row, value in zip(shown, kept["Forecast"].to_list(), strict=True):
        assert float(row[at].replace(",", "")) == round(value, len(row[at].partition(".")[2]))


def test_errors_move_the_handle_and_are_there_in_print(page: Page, address: str, garden: dict[str, int]) -> None:
    page.goto(f"{address}/p/{garden['portfolio']}/s/{garden['study']}/series/{garden['node']}")
    errors = page.get_by_role("region", name=re.compile("Errors by origin and lead"))
    row = errors.get_by_role("row").nth(1)
    origin = row.get_by_role("button").first.inner_text()
    cell = row.get_by_role("cell").nth(2).get_by_role("button")
    value = cell.inner_text()
    cell.click()
    expect(page.get_by_role("slider", name=re.compile("Origin"))).to_have_attribute(
        "aria-valuetext", re.compile(origin)
    )
    assert f"origin={origin}" in page.url
    page.emulate_media(media="print")
    expect(cell).to_be_visible()
    assert value and cell.inner_text() == value
    expect(errors.get_by_text("CSV")).to_be_hidden()
    expect(page.get_by_role("navigation", name="Places")).to_be_hidden()


def test_the_backtest_prints_as_one_page(page: Page, address: str, garden: dict[str, int]) -> None:
    page.goto(f"{address}/p/{garden['portfolio']}/s/{garden['study']}/backtest?page=all")
    headings = ("Who errs least on which kind", "Series by gain", "Share of actuals inside the bands")
    for heading in headings:
        page.get_by_role("region", name=re.compile(heading)).first.wait_for()
    page.emulate_media(media="print")
    page.get_by_role("button", name="Print").wait_for(state="hidden")
    expect(page.get_by_text(re.compile("^Tested from"))).to_be_visible()
    for heading in headings:
        expect(page.get_by_role("region", name=re.compile(heading)).first).to_be_visible()
    # nothing scrolls inside the page: what stands below the edge of the window is printed too
    hidden = "all => all.filter(one => one.scrollHeight > one.clientHeight + 2).length"
    inner = page.locator("#root, #root main, #content").evaluate_all(hidden)
    assert inner == 0
    assert page.pdf(format="A4", landscape=True).startswith(b"%PDF")


def test_another_choice_is_tried_and_run(page: Page, address: str, garden: dict[str, int]) -> None:
    page.goto(f"{address}/p/{garden['portfolio']}/s/{garden['study']}/backtest?page=choice")
    keep = page.get_by_role("button", name="Run a study with this choice")
    expect(keep).to_be_disabled()
    stands = page.get_by_label("Stands first")
    wanted = stands.locator("option").all_inner_texts()[-1]
    stands.select_option(label=wanted)
    page.get_by_label(re.compile("Margin")).fill("10")
    page.get_by_label(re.compile("leaves its group")).fill("99")
    expect(keep).to_be_enabled()
    levels = page.get_by_role("region", name=re.compile("Error by level"))
    changed = levels.get_by_role("row").nth(1).get_by_role("cell").nth(2)
    expect(changed).not_to_have_text("0")
    with page.expect_response(re.compile("/choice/$")) as answer:
        keep.click()
    page.wait_for_url(re.compile(r"/study$"))
    newest = page.get_by_role("row").nth(1)
    # the list as it was known stands there first, and its study may look the same
    link = newest.get_by_role("link", name="recipe")
    expect(link).to_have_attribute("href", re.compile(f"/{answer.value.json()['id']}/recipe/"))
    expect(newest).to_contain_text("used again", timeout=120_000)
    expect(newest.get_by_role("cell", name="done")).to_be_visible()
    assert "computed" not in newest.inner_text()
    recipe = page.request.get(address + (link.get_attribute("href") or "")).text()
    assert f'fallback = [\n    "{wanted}"' in recipe and "margin = 10" in recipe

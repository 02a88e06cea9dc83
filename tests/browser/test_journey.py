"""From a sales file to a published forecast, by real clicks."""

from __future__ import annotations

import io
import re
import urllib.request
import zipfile
from pathlib import Path

import polars as pl
from playwright.sync_api import Page, expect

from tests.browser.steps import LOOK_AT_IT, painted, place


def test_a_bad_file_is_explained_and_a_good_one_becomes_a_release(page: Page, files: Path, address: str) -> None:
    # Intake: a file that mixes two ways of writing weeks is refused where it stands, and nothing is loaded
    place(page, "Intake")
    bad = files / "bad.csv"
    bad.write_text("week,product,store,units\n2025-W01,P0,S0,3\n03/04/2025,P0,S0,4\n")
    page.get_by_label(re.compile("^Sales")).set_input_files(bad)
    page.get_by_role("button", name=LOOK_AT_IT).click()
    expect(page.get_by_role("alert")).to_contain_text("row 3: '03/04/2025' is written as dates")
    expect(page.get_by_role("button", name="Load")).to_be_disabled()
    page.get_by_role("button", name="Discard the file").click()

    # A good one: the guess, a correction of it and back, then load
    page.get_by_label(re.compile("^Sales")).set_input_files(files / "sales.csv")
    page.get_by_label(re.compile("^Attributes, drivers and edges")).set_input_files(
        [files / "products.csv", files / "drivers.csv"]
    )
    page.get_by_role("button", name=LOOK_AT_IT).click()
    expect(page.get_by_role("region", name="What was understood")).to_contain_text("18 series of 130 weeks")
    page.get_by_label("Role of store").select_option("not used")
    expect(page.get_by_role("region", name="What was understood")).to_contain_text("6 series")
    page.get_by_label("Role of store").select_option("key of a series")
    page.get_by_label("Role of region").select_option("describes store")
    expect(page.get_by_role("region", name="What was understood")).to_contain_text("18 series")
    page.get_by_role("button", name="unknown").click()
    expect(page.get_by_role("cell", name="missing weeks count as unknown")).to_be_visible()
    page.get_by_role("button", name="zero: nothing was sold").click()
    page.get_by_label("Portfolio name").fill("Garden")
    page.get_by_role("button", name="Load 18 series").click()

    # Study: start, leave, stop, go on, wait until it is done
    page.get_by_role("button", name="Run the default recipe").click()
    progress = page.get_by_role("region", name="Progress")
    progress.wait_for()
    page.goto("about:blank")
    page.goto(address)
    place(page, "Study")
    progress_or_done = page.get_by_role("region", name="Progress").or_(
        page.get_by_role("cell", name="done", exact=True)
    )
    progress_or_done.first.wait_for()
    expect(page.get_by_role("cell", name="done", exact=True)).to_be_visible(timeout=120_000)

    # Field: keys fold, move and open
    place(page, "Field")
    grid = page.get_by_role("grid")
    grid.focus()
    rows = page.get_by_role("rowheader")
    expect(rows).not_to_have_count(0)
    before = rows.count()
    page.keyboard.press("Space")
    expect(rows).to_have_count(1)
    page.keyboard.press("Space")
    expect(rows).to_have_count(before)
    page.get_by_role("button", name="error (WAPE)").click()
    expect(page).to_have_url(re.compile("lens=wape"))
    grid.focus()
    page.keyboard.press("ArrowDown")
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")

    # Series: bands, method, table, origin handle by key, neighbours by key
    heading = page.get_by_role("heading", level=1)
    expect(heading).to_contain_text("Ferns")
    expect(heading).to_contain_text("North")
    painted(page, "history, forecast and bands")
    table = page.get_by_role("region", name="Methods tried, over all origins")
    expect(table).to_contain_text("chosen")
    expect(table.get_by_role("row")).to_have_count(11 + 2)
    handle = page.get_by_role("slider", name=re.compile("Origin"))
    handle.focus()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_text(re.compile(r"From 20\d\d-W\d\d, \d+ weeks:"))).to_be_visible()
    expect(page).to_have_url(re.compile("origin=20"))
    page.keyboard.press("j")
    expect(heading).to_contain_text("South")

    # Look: differences at the press of a key, years side by side, parts
    page.get_by_role("button", name="Look", exact=True).click()
    painted(page, "The years over each other")
    page.keyboard.press("s")
    expect(page.get_by_text("Units a week, differenced at lag 52")).to_be_visible()
    page.keyboard.press("d")
    expect(page.get_by_text("differenced once and at lag 52")).to_be_visible()
    expect(page.get_by_role("region", name="week by year").get_by_role("row")).to_have_count(1 + 52)
    page.get_by_role("button", name="Trend, season, rest").click()
    expect(page.get_by_role("img", name="Season")).to_be_visible()

    # Fit: orders by steppers, judged; a second model and the search beside it; what was tried, and at each origin
    page.get_by_role("button", name="Fit", exact=True).click()
    coefficients = page.get_by_role("region", name="Coefficients")
    expect(coefficients).not_to_be_empty()
    page.get_by_role("textbox", name="Method as text").fill("arima(1,0,0)")
    page.get_by_role("textbox", name="Method as text").blur()
    expect(coefficients).to_contain_text("ar1")
    page.get_by_role("button", name="p, past values: one more").click()
    expect(coefficients).to_contain_text("ar2")
    expect(page.get_by_role("region", name="Judgement")).to_contain_text("Ljung-Box")
    page.get_by_role("button", name="+ one more").click()
    page.get_by_role("button", name="Harmonics of the year: one more").click()
    page.get_by_role("checkbox", name="promotion").check()
    expect(coefficients).to_contain_text("promotion")
    beside = page.get_by_role("region", name="Beside each other")
    expect(beside.get_by_role("row")).to_have_count(1 + 3)
    expect(
        beside.get_by_role("row", name=re.compile(r"^B arima\(2,0,0\) \+ harmonics\(1\) \+ x\(promotion\)"))
    ).to_be_visible()
    page.get_by_role("button", name=re.compile("^Search arima")).click()
    expect(page.get_by_text(re.compile(r"\d+ models tried, by AICc"))).to_be_visible()
    expect(page.get_by_role("region", name="Search at each origin").get_by_role("row")).not_to_have_count(0)
    painted(page, "History and the forecast of each model")

    # Drivers: effects with bands, another plan, the forecast taken apart
    page.get_by_role("button", name="Drivers", exact=True).click()
    effects = page.get_by_role("region", name="What each driver does")
    expect(effects.get_by_role("row", name=re.compile("^promotion"))).to_be_visible()
    page.get_by_label("promotion in all periods").fill("1")
    page.get_by_label("promotion in all periods").press("Enter")
    expect(page.get_by_text(re.compile(r"units over 13 weeks: [\d,]+ instead of [\d,]+"))).to_be_visible()
    expect(page.get_by_role("img", name="Part of the forecast: season")).to_be_visible()
    painted(page, "Part of the forecast: season")

    # Try it: a constant by hand, one more try, a made-up actual; compared in pictures and in a table
    page.get_by_role("button", name="Try it").click()
    painted(page, "Try A: history, fitted values, forecast and bands")
    page.get_by_label("Method", exact=True).select_option("ets(A,N,N)")
    page.get_by_label("Start", exact=True).select_option("first")
    page.get_by_role("checkbox", name="estimate").first.uncheck()
    slider = page.get_by_role("slider", name="level weight α")
    slider.fill("0.5")
    expect(page.get_by_label("Method as text")).to_have_value(re.compile(r"start=first, alpha=0\.5"))
    page.get_by_role("button", name="+ one more").click()
    page.get_by_label("Method", exact=True).select_option("moving-average(4)")
    measures = page.get_by_role("table").filter(has_text="One period ahead")
    expect(measures.get_by_role("row")).to_have_count(1 + 3)
    expect(measures).to_contain_text("moving-average(4)")
    expect(measures).to_contain_text("✓")
    made_up = page.get_by_placeholder("what if …")
    periods = page.get_by_role("region", name="Periods").get_by_role("row")
    actuals = [float(row.get_by_role("cell").nth(1).inner_text()) for row in periods.all()[-4:-1]]
    made_up.fill("5000")
    expect(made_up).to_have_count(2)
    expect(periods.last.get_by_role("cell").nth(6)).to_have_text(f"{(sum(actuals) + 5000) / 4:,.0f}")
    page.get_by_label("Method as text").fill("ets(A,")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("is not a method")
    page.get_by_label("Method as text").fill("moving-average(6)")
    page.keyboard.press("Enter")
    page.get_by_role("button", name="Keep C").click()
    page.get_by_label("Reason").fill("agreed with the shop")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_text("Studies made from now on use moving-average(6)")).to_be_visible()
    page.get_by_role("button", name="Done").click()

    # Workings: a cell opens its formula, arrow keys move on, and the sheet has live formulas
    page.get_by_role("button", name="Workings").click()
    page.get_by_placeholder("ets(A,A,N; start=first, alpha=0.3)").fill("ets(A,N,N; alpha=0.5, level=100)")
    page.keyboard.press("Enter")
    page.locator("[data-at='1-5']").click()
    expect(page.get_by_text(re.compile(r"100 \+ 0\.5 × .* = "))).to_be_visible()
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_text(re.compile(r"^Error %"))).to_have_count(2)
    with page.expect_download() as download:
        page.get_by_role("link", name="XLSX with formulas").click()
    sheet = zipfile.ZipFile(download.value.path()).read("xl/worksheets/sheet1.xml").decode()
    assert "$B$4*" in sheet
    place(page, "Study")
    expect(page.get_by_role("region", name="Methods kept by hand")).to_contain_text("agreed with the shop")

    # Backtest and Structure
    place(page, "Backtest")
    painted(page, "of the methods by lead")
    expect(page.get_by_role("row", name=re.compile("^published"))).to_be_visible()
    place(page, "Structure")
    expect(page.get_by_role("main")).to_contain_text("zero to rounding")
    expect(page.get_by_role("region", name="RMSSE by level")).to_contain_text("group × region")

    # Releases: checks, publish, download, and read with a token
    place(page, "Releases")
    expect(page.get_by_text("✓ holds")).to_have_count(5)
    page.get_by_label("Note").fill("the first")
    page.get_by_role("button", name="Publish R1").click()
    expect(page.get_by_text(re.compile("is published as R1"))).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="CSV").click()
    csv = pl.read_csv(download.value.path())
    with page.expect_download() as download:
        page.get_by_role("link", name="Parquet").click()
    assert pl.read_parquet(download.value.path()).height == csv.height
    finest = csv.filter(pl.col("level") == "product × store")
    assert finest.select("product", "store").unique().height == 18
    total = csv.filter(pl.col("node") == "every product × every store").sort("lead")
    summed = finest.group_by("lead").agg(pl.col("forecast").sum()).sort("lead")
    assert (total["forecast"] - summed["forecast"]).abs().max() < 1e-9 * total["forecast"].max()
    page.get_by_label("Name of the system").fill("warehouse")
    page.get_by_role("button", name="Make a token").click()
    token = page.get_by_test_id("token").inner_text()
    release = page.get_by_role("link", name="CSV").get_attribute("href")
    request = urllib.request.Request(f"{address}{release}", headers={"Authorization": f"Bearer {token}"})
    assert pl.read_csv(io.BytesIO(urllib.request.urlopen(request).read())).height == csv.height


def test_a_running_study_can_be_stopped_and_run_again(page: Page, files: Path) -> None:
    place(page, "Intake")
    page.get_by_label(re.compile("^Sales")).set_input_files(files / "sales.csv")
    page.get_by_role("button", name=LOOK_AT_IT).click()
    page.get_by_label("Portfolio name").fill("Second garden")
    page.get_by_role("button", name="Load 18 series").click()
    page.get_by_role("button", name="Run the default recipe").click()
    page.get_by_role("button", name="Stop", exact=True).click()
    expect(page.get_by_role("cell", name=re.compile("^(stopped|done)"))).to_be_visible(timeout=60_000)
    if page.get_by_role("button", name="Run it again").count():
        page.get_by_role("button", name="Run it again").click()
        expect(page.get_by_role("cell", name="done", exact=True)).to_be_visible(timeout=120_000)


def test_a_wild_value_is_corrected_and_reverted_and_actuals_are_added(page: Page, files: Path) -> None:
    sales = (files / "sales.csv").read_text().splitlines()
    at = next(i for i, row in enumerate(sales) if row.startswith("2024-W20,P1,S0"))
    sales[at] = sales[at].rsplit(",", 1)[0] + ",950"
    place(page, "Intake")
    page.get_by_role("button", name="cells of a spreadsheet").click()
    page.get_by_label("Cells, pasted").evaluate(
        """(field, text) => {
            const clipboardData = new DataTransfer();
            clipboardData.setData('text/plain', text);
            field.dispatchEvent(new ClipboardEvent('paste', { clipboardData, bubbles: true, cancelable: true }));
        }""",
        "\n".join(sales).replace(",", "\t"),
    )
    page.get_by_role("button", name=LOOK_AT_IT).click()
    expect(page.get_by_role("table", name="The first rows as understood")).to_contain_text("P0")
    page.get_by_label("Portfolio name").fill("Third garden")
    page.get_by_role("button", name="Load 18 series").click()
    page.get_by_role("button", name="Run the default recipe").click()
    expect(page.get_by_role("cell", name="done", exact=True)).to_be_visible(timeout=120_000)

    # Corrections: found, drawn, accepted by key, shown with its ring, reverted from the ledger
    place(page, "Intake")
    pages = page.get_by_role("navigation", name="Pages of Intake")
    expect(pages.get_by_role("link", name=re.compile(r"Corrections\s*\d"))).to_be_visible()  # looked for at loading
    pages.get_by_role("link", name="Corrections").click()
    value = page.get_by_role("region", name="The value in its context")
    expect(value).to_contain_text("P1 × S0, 2024-W20")
    expect(value).to_contain_text("950 were received")
    painted(page, "P1 × S0 around 2024-W20")
    many = page.get_by_role("button", name=re.compile(r"^Accept \d+ …"))
    page.get_by_label("score from").fill("1")
    expect(many).to_be_enabled()
    many.click()
    expect(page.get_by_role("alert")).to_contain_text(
        re.compile(r"Replace \d+ values? or runs? by what was expected\?")
    )
    page.get_by_role("button", name="Cancel").click()
    expect(page.get_by_text("0 corrected")).to_be_visible()
    page.keyboard.press("2")
    expect(value.get_by_role("radio", name=re.compile("local median"))).to_be_checked()
    page.keyboard.press("a")
    expect(page.get_by_text("1 corrected")).to_be_visible()
    pages.get_by_role("link", name="Ledger").click()
    row = page.get_by_role("row", name=re.compile("P1 × S0 2024-W20 950"))
    expect(row).to_contain_text("Wild value")
    page.get_by_role("link", name="Corrections").click()
    page.get_by_role("row", name=re.compile("P1 × S0 2024-W20|P1 × S0 corrected")).click()
    value.get_by_role("link", name="P1 × S0").click()
    expect(page.get_by_role("row", name=re.compile("^2024-W20 950"))).to_be_visible()
    painted(page, "History of P1 × S0")
    pages.get_by_role("link", name="Ledger").click()
    page.get_by_placeholder("part of a name or code").fill("p1")
    page.get_by_placeholder("part of a name or code").press("Enter")
    page.get_by_role("checkbox", name="Choose P1 × S0, 2024-W20").check()
    page.get_by_role("button", name="Revert 1").click()
    expect(page.get_by_text("0 values in force, 1 reverted")).to_be_visible()

    # A known closure, marked in one go
    pages.get_by_role("link", name="Corrections").click()
    page.get_by_text("Mark a stock-out or closure", exact=True).click()  # the ledger that is left speaks of it too
    page.get_by_label("Key or attribute").select_option("store")
    page.get_by_label("Its value").fill("S1")
    page.get_by_label("First period").fill("2024-W30")
    page.get_by_label("Last period").fill("2024-W31")
    page.get_by_role("button", name="Mark", exact=True).click()
    expect(page.get_by_text("12 values are unknown now.")).to_be_visible()

    # Actuals with a revision: looked at, added, undone, added again, and the study run from the new origin
    more = files / "more.csv"
    last = sales[-1].split(",")[0]
    year, week = int(last[:4]), int(last[6:])
    new = f"{year}-W{week + 1:02d}"
    rows = [f"{new},P{p},S{s},North,9" for p in range(6) for s in range(3)] + [f"{last},P0,S0,North,77"]
    more.write_text("week,product,store,region,units\n" + "\n".join(rows) + "\n")
    for attempt in ("undone", "kept"):
        pages.get_by_role("link", name="Loads").click()
        page.get_by_label(re.compile("^Sales")).set_input_files(more)
        page.get_by_role("button", name="Add to Third garden").click()
        brings = page.get_by_role("region", name="What it brings")
        expect(brings).to_contain_text(f"18 new values in {new}")
        expect(brings).to_contain_text("1 revised values")
        expect(brings.get_by_role("row", name=re.compile(f"P0 × S0 {last}"))).to_contain_text("77")
        page.get_by_role("button", name="Add it").click()
        expect(page.get_by_role("cell", name="more.csv")).to_be_visible()
        if attempt == "undone":
            page.get_by_role("button", name="Undo").click()
            expect(page.get_by_role("cell", name="more.csv")).to_have_count(0)
    page.get_by_role("button", name=f"Run it again from {new}").click()
    expect(page.get_by_role("cell", name="done", exact=True)).to_have_count(2, timeout=120_000)

    # Coverage: read by keys, opened; all series: folded down; kinds: filter the Field
    place(page, "Intake")
    pages.get_by_role("link", name="Coverage").click()
    picture = page.get_by_role("application", name=re.compile("Coverage of 18 series"))
    page.wait_for_selector("canvas[data-painted]")
    picture.focus()
    page.keyboard.press("ArrowDown")
    expect(page.get_by_text(re.compile(r"Sold [\d,]+ in all"))).to_be_visible()
    page.keyboard.press("Enter")
    painted(page, "History of")
    pages.get_by_role("link", name="All series").click()
    painted(page, "Total over time")
    page.get_by_role("button", name="P4").click()
    expect(page.get_by_role("navigation", name="Choice")).to_contain_text("3 series")
    pages.get_by_role("link", name="Kinds").click()
    page.get_by_role("button", name="seasonal").click()
    page.get_by_role("link", name="show only these in the Field").click()
    expect(page.get_by_role("button", name=re.compile("only seasonal, .* series"))).to_be_visible()


def test_search_keys_and_theme(page: Page, address: str, garden: dict[str, int]) -> None:
    page.goto(f"{address}/p/{garden['portfolio']}/s/{garden['study']}/field")
    expect(page.get_by_role("grid")).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.keyboard.press("/")
    page.get_by_label("Part of a name").fill("P3 s1")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("P3")
    page.get_by_role("button", name="dark").click()
    expect(page.locator("html")).to_have_attribute("data-theme", "night")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-theme", "night")

"""Every screen in both themes: readable, named, reachable by keyboard, and no wider than the window."""

from __future__ import annotations

import json
import re

import polars as pl
import pytest
from playwright.sync_api import Browser, Page, expect

from tests.browser.steps import settle

SERIES = ("", "?adjust=1", "?page=look", "?page=fit", "?page=drivers", "?page=try", "?page=workings")
INTAKE = ("", "/coverage", "/all", "/corrections", "/ledger", "/kinds", "/plans", "/series/0")

_TEXTS = """() => {
  const context = Object.assign(document.createElement('canvas'), { width: 1, height: 1 }).getContext('2d', {
    willReadFrequently: true,
  });
  const known = new Map();
  const rgba = (colour) => {
    if (!known.has(colour)) {
      context.clearRect(0, 0, 1, 1);
      context.fillStyle = colour;
      context.fillRect(0, 0, 1, 1);
      const [r, g, b, a] = context.getImageData(0, 0, 1, 1).data;
      known.set(colour, [r, g, b, a / 255]);
    }
    return known.get(colour);
  };
  const over = ([r, g, b, a], below) => [r, g, b].map((c, i) => c * a + below[i] * (1 - a));
  const behind = (element) => {
    if (!element) return [255, 255, 255];
    const own = rgba(getComputedStyle(element).backgroundColor);
    return own[3] === 1 ? own.slice(0, 3) : over(own, behind(element.parentElement));
  };
  const light = (rgb) => {
    const [r, g, b] = rgb.map((c) => (c / 255 <= 0.03928 ? c / 255 / 12.92 : ((c / 255 + 0.055) / 1.055) ** 2.4));
    return 0.2126 * r + 0.7152 * g + 0.0722 * b;
  };
  const found = [];
  const walker = document.createTreeWalker(document.body, NodeFilter.SHOW_TEXT);
  while (walker.nextNode()) {
    const element = walker.currentNode.parentElement;
    const text = walker.currentNode.textContent.trim();
    const left = 'script, style, option, [aria-hidden=true], .sr-only, :disabled, [role=gridcell]';
    if (!text || element.closest(left)) continue;
    const style = getComputedStyle(element);
    if (!element.checkVisibility() || style.visibility === 'hidden' || style.opacity === '0') continue;
    const paper = behind(element);
    const ink = over(rgba(style.color), paper);
    const [a, b] = [light(ink), light(paper)].sort((x, y) => y - x);
    found.push({ text: text.slice(0, 40), ratio: (a + 0.05) / (b + 0.05) });
  }
  return found;
}"""

_UNNAMED = """() => [
  ...document.querySelectorAll('button, a[href], input, select, textarea, [role=slider], [role=grid]'),
]
  .filter((one) => one.checkVisibility())
  .filter((one) => {
    const labels = one.labels ? [...one.labels].map((label) => label.textContent).join('') : '';
    const ids = (one.getAttribute('aria-labelledby') ?? '').split(' ');
    const by = ids.map((id) => document.getElementById(id)?.innerText);
    return !(one.getAttribute('aria-label') || labels.trim() || by.join('') || one.innerText?.trim() || one.title);
  })
  .map((one) => one.outerHTML.slice(0, 120))"""


def places(garden: dict[str, int]) -> list[str]:
    portfolio, study, node = garden["portfolio"], garden["study"], garden["node"]
    return [
        *(f"/p/{portfolio}/intake{page}" for page in INTAKE),
        f"/p/{portfolio}/study", f"/p/{portfolio}/s/{study}/field",
        *(f"/p/{portfolio}/s/{study}/series/{node}{page}" for page in SERIES), f"/p/{portfolio}/s/{study}/structure",
        f"/p/{portfolio}/s/{study}/backtest", f"/p/{portfolio}/releases", f"/p/{portfolio}/releases?page=track",
        f"/p/{portfolio}/compare/{study}/{study}", f"/p/{portfolio}/people",
    ]  # fmt: skip


def readable(page: Page, where: str) -> None:
    """Contrast of all texts, names of all that can be reached, and ids that stand once."""
    texts = page.evaluate(_TEXTS)
    assert len(texts) > 10, where
    faint = [f"{one['text']!r} {one['ratio']:.2f}" for one in texts if one["ratio"] < 4.5]
    assert not faint, f"{where}: contrast under 4.5: {faint[:5]}"
    assert not (unnamed := page.evaluate(_UNNAMED)), f"{where}: {unnamed[:3]}"
    twice = page.evaluate(
        "[...document.querySelectorAll('[id]')].map((e) => e.id).filter((id, i, all) => all.indexOf(id) !== i)"
    )
    assert not twice, f"{where}: {twice}"


@pytest.mark.parametrize("theme", ["paper", "night"])
def test_every_screen_is_readable_named_and_fits(page: Page, address: str, garden: dict[str, int], theme: str) -> None:
    page.evaluate(f"localStorage.setItem('tansy-theme', '{theme}')")
    for width, height in ((1280, 800), (1024, 700)):
        page.set_viewport_size({"width": width, "height": height})
        for place in places(garden):
            page.goto(address + place)
            settle(page)
            where = f"{place} in {theme} at {width}"
            assert page.locator("html").get_attribute("data-theme") == theme
            expect(page.get_by_role("alert")).to_have_count(0)
            assert page.get_by_role("heading", level=1).count() == 1, where
            too_wide = page.evaluate("document.scrollingElement.scrollWidth - innerWidth")
            assert too_wide <= 0, f"{where}: {too_wide} px too wide"
            if width == 1024:
                continue
            readable(page, where)


def test_no_screen_needs_what_the_content_policy_forbids(
    browser: Browser, page: Page, address: str, garden: dict[str, int]
) -> None:
    context = browser.new_context(storage_state=page.context.storage_state())
    strict = context.new_page()
    refused: list[str] = []
    strict.on("console", lambda one: refused.append(one.text) if "Content Security Policy" in one.text else None)
    for place in places(garden):
        strict.goto(address + place, wait_until="networkidle")
        strict.get_by_role("heading", level=1).wait_for()
    strict.evaluate("document.head.append(Object.assign(document.createElement('script'), { textContent: '1' }))")
    strict.wait_for_timeout(200)
    assert len(refused) == 1 and "inline" in refused[0], refused  # the one that was put in here
    context.close()


def test_the_focus_is_seen_wherever_it_goes(page: Page, address: str, garden: dict[str, int]) -> None:
    portfolio, study, node = garden["portfolio"], garden["study"], garden["node"]
    for place in (
        f"/p/{portfolio}/s/{study}/series/{node}?page=try",
        f"/p/{portfolio}/s/{study}/series/{node}?adjust=1",
        f"/p/{portfolio}/releases",
        f"/p/{portfolio}/intake",
    ):
        page.goto(address + place)
        settle(page)
        seen: set[str] = set()
        for _ in range(45):
            page.keyboard.press("Tab")
            where = page.evaluate(
                """() => {
                  const one = document.activeElement;
                  const style = getComputedStyle(one);
                  const shown = parseFloat(style.outlineWidth) > 0 && style.outlineStyle !== 'none';
                  return [one.outerHTML.slice(0, 90), shown || style.boxShadow !== 'none', one === document.body];
                }"""
            )
            if where[2]:
                continue
            assert where[1], f"{place}: no focus to be seen on {where[0]}"
            seen.add(where[0])
        assert len(seen) > 10, place  # the places, and what is on the screen


def test_the_forecast_of_a_try_is_read_off_summed_up_and_taken_along(
    page: Page, address: str, garden: dict[str, int]
) -> None:
    page.context.grant_permissions(["clipboard-read", "clipboard-write"])
    page.goto(f"{address}/p/{garden['portfolio']}/s/{garden['study']}/series/0?page=try")
    settle(page)
    ahead = page.get_by_role("region", name="Forecast of A")

    def numbers() -> list[list[float]]:
        rows = ahead.get_by_role("row").all()[1:]
        return [
            [float(cell.replace(",", "").replace("−", "-")) for cell in row.inner_text().split("\t")[1:]]
            for row in rows
        ]

    each = numbers()
    ahead.get_by_role("button", name="all weeks up to it").click()
    summed = numbers()
    assert len(each) == len(summed) == 13
    assert summed[0] == pytest.approx(each[0], abs=0.5)  # no decimals where a sum is large
    running = [sum(row[0] for row in each[: h + 1]) for h in range(13)]
    assert all(abs(row[0] - total) <= 1.0 for row, total in zip(summed, running, strict=True))
    widths = [row[4] - row[3] for row in each]  # of the 80 % band: forecast, 50 % from, to, 80 % from, to
    assert summed[-1][4] - summed[-1][3] < sum(widths)
    ahead.get_by_role("button", name=re.compile("^Copy")).click()
    expect(ahead.get_by_text("Copied")).to_be_visible()
    copied = [line.split("\t") for line in page.evaluate("navigator.clipboard.readText()").splitlines()]
    assert copied[0][:4] == ["Period", "Forecast", "50 % from", "50 % to"] and len(copied) == 14
    assert abs(float(copied[13][1]) - summed[12][0]) <= 0.5
    with page.expect_download() as download:
        ahead.get_by_role("button", name=re.compile("^CSV")).click()
    kept = pl.read_csv(download.value.path())
    assert kept.columns == copied[0] and kept.height == 13

    sheet = page.get_by_role("region", name="Period by period")
    with page.expect_download() as download:
        sheet.get_by_role("button", name=re.compile("^CSV")).click()
    whole = pl.read_csv(download.value.path(), infer_schema=False)
    assert whole.height == 130 + 7  # every week, though a few rows are in sight, and the seven measures
    assert whole["Period"].to_list()[-7:] == ["ME", "MAE", "MSE", "RMSE", "MAPE %", "WAPE %", "MASE"]


def test_a_page_that_fails_says_so_and_recovers(page: Page, address: str, garden: dict[str, int]) -> None:
    place = f"{address}/p/{garden['portfolio']}/s/{garden['study']}"
    broken = {
        "status": 500,
        "content_type": "application/problem+json",
        "body": json.dumps({"detail": "The disk is full."}),
    }
    page.route("**/api/studies/*/summary/", lambda route: route.fulfill(**broken))
    page.goto(f"{place}/backtest")
    expect(page.get_by_role("alert")).to_contain_text("The disk is full.")
    page.unroute("**/api/studies/*/summary/")
    page.get_by_role("button", name="Try again").click()
    expect(page.get_by_role("region", name="Over all leads")).to_be_visible()
    page.goto(f"{place}/series/9999")
    expect(page.get_by_role("alert")).to_be_visible()
    page.goto(f"{address}/nowhere/at/all")
    expect(page.get_by_text("There is nothing at this address")).to_be_visible()

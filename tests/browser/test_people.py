"""A team on one server: somebody is invited, does what a role lets them, and keeps strangers out."""

from __future__ import annotations

import re

from playwright.sync_api import Browser, Page, expect

FIRST, SECOND = "slow-river-stone", "quick-river-stone"


def test_who_is_invited_has_a_role_an_own_password_and_is_not_locked_out_by_strangers(
    page: Page, browser: Browser, address: str, garden: dict[str, int]
) -> None:
    page.goto(f"{address}/p/{garden['portfolio']}/people")
    # a second form, for everybody on the server, may be there before this one
    members = page.get_by_role("region", name="Who may do what")
    members.get_by_label("Name to sign in by").fill("mara")
    members.get_by_role("combobox", name="as").select_option("reader")
    members.get_by_role("button", name="Add", exact=True).click()
    link = page.get_by_test_id("invitation").inner_text()

    context = browser.new_context(viewport={"width": 1280, "height": 800})
    hers = context.new_page()
    hers.goto(link)
    expect(hers.get_by_text("Welcome, mara")).to_be_visible()
    assert "#" not in hers.url  # the secret does not stay in the address
    hers.get_by_label("Password, ten").fill("password12")
    hers.get_by_label("The same again").fill("password12")
    hers.get_by_role("button", name="Come in").click()
    expect(hers.get_by_role("alert")).to_contain_text("too common")
    for label in ("Password, ten", "The same again"):
        hers.get_by_label(label).fill(FIRST)
    hers.get_by_role("button", name="Come in").click()

    # a reader sees what there is and publishes nothing
    places = hers.get_by_role("navigation", name="Places")
    expect(places.get_by_text("you are a reader")).to_be_visible()
    places.get_by_role("link", name="Releases").click()
    expect(hers.get_by_text("You are a reader; a signer publishes this")).to_be_visible()
    expect(hers.get_by_role("button", name="Publish")).to_have_count(0)
    hers.get_by_label("A comment on the whole").fill("May I?")
    expect(hers.get_by_role("button", name="Say it")).to_be_disabled()
    hers.goto(f"{address}/p/{garden['portfolio']}/s/{garden['study']}/series/{garden['node']}?page=try")
    hers.get_by_role("button", name=re.compile("^Keep A")).click()
    asked = hers.get_by_role("dialog")
    asked.get_by_label("Reason").fill("It is mine.")
    expect(asked.get_by_role("button", name="Keep")).to_have_attribute("title", re.compile("planners do this"))
    expect(asked.get_by_role("button", name="Keep")).to_be_disabled()
    hers.keyboard.press("Escape")

    # her own password, and strangers who guess
    hers.get_by_role("button", name="password").click()
    for label, text in (("Password now", FIRST), ("New password", SECOND), ("The new one again", SECOND)):
        hers.get_by_label(label).fill(text)
    hers.get_by_role("button", name="Change it").click()
    expect(hers.get_by_role("status")).to_contain_text("It is changed")
    hers.keyboard.press("Escape")
    hers.get_by_role("button", name="sign out").click()
    elsewhere = browser.new_context().new_page()
    elsewhere.goto(address)
    for _ in range(11):
        elsewhere.get_by_label("Name").fill("mara")
        elsewhere.get_by_label("Password").fill(FIRST)
        with elsewhere.expect_response("**/api/session/") as answer:
            elsewhere.get_by_role("button", name="Sign in").click()
    assert answer.value.status == 429
    expect(elsewhere.get_by_role("alert")).to_contain_text("from a browser that you have signed in from before")
    elsewhere.context.close()
    hers.get_by_label("Name").fill("mara")
    hers.get_by_label("Password").fill(SECOND)
    hers.get_by_role("button", name="Sign in").click()
    expect(places.get_by_text("you are a reader")).to_be_visible()

    # she is made a signer, seen on the trail, and let in no more
    page.reload()
    page.get_by_label("Role of mara").select_option("signer")
    expect(page.get_by_text("made mara a signer")).to_be_visible()
    hers.reload()
    expect(places.get_by_text("you are a signer")).to_be_visible()
    row = page.locator("section", has=page.get_by_role("heading", name="Everybody on this server")).get_by_role(
        "row", name="mara"
    )
    row.get_by_role("button", name="Let in no more").click()
    expect(row.get_by_role("button", name="Let in again")).to_be_visible()
    hers.reload()
    expect(hers.get_by_role("button", name="Sign in")).to_be_visible()
    context.close()

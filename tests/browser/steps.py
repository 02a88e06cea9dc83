"""Steps that the tests share: where to go, and when a screen may be read and keys pressed on it.

A click only asks for the next screen: until it is ready the one before stays, painted and deaf to the keys of the next.
So every wait names something that the new screen alone has.
"""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

LOOK_AT_IT = re.compile("^(Look at it|Make a new portfolio)$")
"""Name of the button that reads a file: the second where there is a portfolio already."""

_PAINTED = "[...document.querySelectorAll('.chart')].every((one) => one.dataset.painted)"


def place(page: Page, name: str) -> None:
    page.get_by_role("navigation", name="Places").get_by_role("link", name=re.compile(f"^{name}")).click()


def painted(page: Page, picture: str) -> None:
    """Wait until the picture of this name is there, and every chart beside it has said that it is painted."""
    page.get_by_role("img", name=picture).first.wait_for()
    page.wait_for_function(_PAINTED)


def settle(page: Page) -> None:
    """Wait, on a page just opened, until nothing loads, all is painted, and no colour is on its way to another."""
    page.get_by_role("heading", level=1).wait_for()
    expect(page.locator(".loading")).to_have_count(0)
    page.wait_for_function(_PAINTED)
    page.wait_for_function("document.getAnimations().every((one) => one.playState !== 'running')")

"""A picture refined to its proof in the window, and begun anew by the next change."""

from __future__ import annotations

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from tests.chromium import (
    CHROMIUM,
    PATIENCE,
    Server,
    arrive,
    drag,
    mean_colour,
    serial,
    settle,
    until,
)

pytestmark = pytest.mark.skipif(not CHROMIUM.exists(), reason="chromium is not installed")

REFINE = "proof"


def test_dragging_the_hour_changes_the_colour(page: Page, server: Server) -> None:
    arrive(page, server, "fair-weather-noon")
    expect(page.locator("#quality")).to_contain_text("sketch", timeout=PATIENCE)
    settle(page, server)
    noon, before = mean_colour(page), serial(page)
    strip = until(lambda: page.locator("#strip").bounding_box(), bool)
    assert strip
    y = strip["y"] + 25
    drag(page, (strip["x"] + 0.597 * strip["width"], y), (strip["x"] + 0.897 * strip["width"], y))
    expect(page.locator("#clock")).to_contain_text("21:3", timeout=20_000)
    settle(page, server)
    assert serial(page) > before
    evening = mean_colour(page)
    assert evening[0] / evening[2] > 1.04 * noon[0] / noon[2]  # redder, not just other
    assert np.abs(evening - noon).max() > 5
    assert server.document("fair-weather-noon")["moment"].startswith("2026-06-21T21:3")
    page.keyboard.press("Control+z")
    expect(page.locator("#clock")).to_have_text("14:20", timeout=20_000)
    assert server.document("fair-weather-noon")["moment"] == "2026-06-21T14:20"
    settle(page, server)
    assert mean_colour(page) == pytest.approx(noon, abs=2.0)


@pytest.mark.long
def test_the_days_clouds_are_counted_in_when_the_picture_rests(page: Page, server: Server) -> None:
    """Hour by hour, without a hand; the strip's picture is another then. A change begins anew."""
    arrive(page, server, "morning-fog")
    strip = page.locator("#strip")
    expect(strip).to_have_attribute("data-clouds", "12 of 12", timeout=PATIENCE)
    image = page.locator("#strip image")
    first = image.get_attribute("href") or ""
    assert "day=" in first and first.endswith("-12")
    cover = page.locator('[data-path="air.haze"]')
    page.locator('[data-thing="air"]').click()
    expect(cover).to_have_count(1)
    cover.locator(".value").fill("0.45")
    cover.locator(".value").press("Enter")
    until(lambda: image.get_attribute("href") or "", lambda href: "-0.45-" in href
          and href.endswith(tuple(f"-{count}" for count in range(2, 13))), 240.0)

"""The compare page in Chromium: versions, a photograph, its skyline, a search that is cancelled."""

from __future__ import annotations

import contextlib
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Error, Page, Route, expect

from tests.chromium import CHROMIUM, PATIENCE, Server, arrive, drag, until
from tests.web.test_composer import VEIL, found_by_axe, middle

pytestmark = pytest.mark.skipif(not CHROMIUM.exists(), reason="chromium is not installed")


def trace_the_skyline(page: Page) -> None:
    """With the mouse over the right third of the photograph, and part by part with keys."""
    expect(page.locator("#right.ready")).to_be_visible(timeout=PATIENCE)
    expect(page.locator('[data-measure="cover"]')).to_have_count(2, timeout=60_000)
    assert page.locator('[data-measure="hidden"]').count() == 0
    page.get_by_role("button", name="Trace the skyline").click()
    sheet = page.locator("#skyline .sheet").bounding_box()
    assert sheet
    x, y, wide, high = (sheet[side] for side in ("x", "y", "width", "height"))
    drag(page, (x + 0.68 * wide, y + 0.5 * high), (x + 0.99 * wide, y + 0.5 * high))
    left_out = page.locator('[data-measure="hidden"]').last
    expect(left_out).to_have_text(re.compile(r"^(9|1[0-3]) %$"), timeout=60_000)
    line = page.get_by_role("slider", name="Skyline of the photograph")
    line.press("Home")
    for key in ("PageUp", "PageUp", "PageUp", "PageUp", "PageUp"):
        line.press(key)
    for _ in range(31):
        line.press("Shift+ArrowRight")
    expect(line).to_have_attribute("aria-valuetext", re.compile("part 32 of 64: .* from 50 %"))
    expect(left_out).to_have_text(re.compile(r"^2[5-9] %$"), timeout=60_000)
    page.reload()
    expect(page.locator('input[name="skyline"]')).to_have_value(re.compile("^(0.500,){32}1.000"))
    held: list[tuple[Route, Any]] = []  # the first are numbers of the skyline as it was, told late
    page.route("**/compare/measures*", lambda route: held.append((route, route.fetch())))
    page.reload()
    until(lambda: page.wait_for_timeout(50) or len(held), lambda n: n == 1)
    page.get_by_role("button", name="Clear it").click()
    until(lambda: page.wait_for_timeout(50) or len(held), lambda n: n == 2)
    page.unroute("**/compare/measures*")
    for route, said in reversed(held):
        with contextlib.suppress(Error):  # the page has dropped it
            route.fulfill(response=said)
    expect(page.locator('[data-measure="cover"]')).to_have_count(2, timeout=60_000)
    expect(page.locator('[data-measure="hidden"]')).to_have_count(0, timeout=60_000)


def test_versions_compare_and_a_photograph(page: Page, server: Server, tmp_path: Path) -> None:
    arrive(page, server, VEIL)
    page.keyboard.press("v")
    page.locator("#version-name").fill("Morning")
    page.locator("#version-keep").click()
    expect(page.locator("#notice")).to_contain_text("Morning", timeout=20_000)
    haze = server.document(VEIL)["air"]["haze"]
    page.locator('[data-thing="air"]').click()
    value = page.locator('[data-path="air.haze"] .value')
    value.fill("0.8")
    value.press("Enter")
    until(lambda: server.document(VEIL)["air"]["haze"], lambda h: h == 0.8)
    page.goto(f"{server.url}/skies/{VEIL}/compare?way=wipe")
    morning = page.locator("#second option", has_text="Morning").get_attribute("value")
    page.goto(f"{server.url}/skies/{VEIL}/compare?first=present&second={morning}&way=wipe")
    expect(page.locator("#right.ready")).to_be_visible(timeout=PATIENCE)
    sizes = page.evaluate(
        "() => ['left', 'right'].map((i) => document.getElementById(i).naturalWidth)")
    assert sizes == [720, 720]
    expect(page.locator('[data-measure="cover"]')).to_have_count(2, timeout=60_000)
    page.get_by_text("Difference").click()
    expect(page.locator("#difference.ready")).to_be_visible(timeout=60_000)
    page.locator(f'[data-take="{(morning or "").removeprefix("version-")}"]').click()
    page.wait_for_url("**/skies/veil/")
    assert server.document(VEIL)["air"]["haze"] == haze
    picture = np.zeros((180, 320, 3), dtype=np.uint8)
    picture[:] = np.linspace((50, 90, 170), (150, 180, 220), 180)[:, None, :]
    picture[60:90, 100:220] = 235
    Image.fromarray(picture).save(tmp_path / "photo.jpg")
    page.goto(f"{server.url}/skies/{VEIL}/compare")
    page.locator("#photograph").set_input_files(tmp_path / "photo.jpg")
    page.get_by_role("button", name="Add", exact=True).click()
    expect(page.locator("#framing-title")).to_contain_text("photo")
    expect(page.locator("#right.ready")).to_be_visible(timeout=PATIENCE)
    picture_box = page.locator("#right").bounding_box()
    assert picture_box
    x, y = middle(page, "#photo-horizon")
    drag(page, (x, y), (x, picture_box["y"] + 0.75 * picture_box["height"]))
    expect(page.locator("#f-horizon")).to_have_value("0.75", timeout=20_000)
    expect(page.locator("#right.ready")).to_be_visible(timeout=PATIENCE)
    page.reload()  # kept with the photograph
    expect(page.locator("#f-horizon")).to_have_value("0.75")
    trace_the_skyline(page)
    assert found_by_axe(page) == []
    page.get_by_role("button", name="Suggest a sky like it").click()
    expect(page.locator("#search")).to_have_attribute("data-state", "searching", timeout=20_000)
    page.get_by_role("button", name="Cancel").click()
    expect(page.locator("#search")).to_have_attribute("data-state", "cancelled", timeout=20_000)

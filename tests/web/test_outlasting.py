"""What a hand holds in the composer outlasts what comes from the server meanwhile."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, Route, expect

from tests.chromium import CHROMIUM, Server, arrive, layer_of, until
from tests.web.test_composer import SLUG

pytestmark = pytest.mark.skipif(not CHROMIUM.exists(), reason="chromium is not installed")


def test_units_and_hint_stay_as_chosen(page: Page, server: Server) -> None:
    arrive(page, server, SLUG, "layer:hooks")
    page.locator("#hint-off").click()
    page.locator("#feet").click()  # the page comes anew
    expect(page.locator("#feet")).to_have_attribute("aria-pressed", "true", timeout=20_000)
    row = page.locator('[data-path$="base_m"]')
    expect(row.locator(".unit")).to_have_text("ft", timeout=20_000)
    expect(page.locator("#hint-line")).to_be_hidden()
    base = layer_of(server, SLUG, "hooks")["base_m"]
    row.locator(".value").fill(str(round(base / 0.3048) + 1000))
    row.locator(".value").press("Enter")
    until(lambda: layer_of(server, SLUG, "hooks")["base_m"],
          lambda b: abs(b - base - 304.8) < 1.0)
    page.locator("#night").click()
    expect(page.locator("html")).to_have_attribute("data-board", "night")


def new_panel(page: Page, marked: str, query: str) -> None:
    """Have panels come anew, with a mark on what stands there now."""
    page.evaluate("""([marked, query]) => {
      document.querySelector(marked).dataset.old = 'yes';
      return htmx.ajax('GET', `${location.pathname}panels?${query}`, {
        target: document.querySelector('main'), swap: 'none' });
    }""", [marked, query])


def test_a_word_half_typed_outlasts_a_new_panel(page: Page, server: Server) -> None:
    """A panel that comes while a field in it is half typed waits until the field is entered."""
    arrive(page, server, SLUG, "layer:hooks")
    base = layer_of(server, SLUG, "hooks")["base_m"]
    field = page.locator('[data-path$="base_m"] .value')
    was = float(field.input_value())
    field.fill(str(was + 250))
    new_panel(page, '[data-path$="base_m"]', "selected=layer:hooks")
    page.wait_for_timeout(300)
    assert page.locator('[data-path$="base_m"]').get_attribute("data-old") == "yes"
    assert float(field.input_value()) == was + 250
    field.press("Enter")
    until(lambda: layer_of(server, SLUG, "hooks")["base_m"], lambda b: b != base)
    expect(page.locator('[data-path$="base_m"][data-old]')).to_have_count(0, timeout=20_000)


def test_what_was_chosen_in_a_field_is_chosen_in_a_new_panel(page: Page, server: Server) -> None:
    """A panel that comes between choosing a field's text and typing: the text is still replaced."""
    arrive(page, server, SLUG, "layer:hooks")
    field = page.locator('[data-path$="base_m"] .value')
    field.focus()
    field.select_text()
    new_panel(page, '[data-path$="base_m"]', "selected=layer:hooks")
    expect(page.locator('[data-path$="base_m"][data-old]')).to_have_count(0, timeout=20_000)
    page.keyboard.type("7150")
    assert field.input_value() == "7150"
    page.keyboard.press("Escape")


def test_a_press_outlasts_a_new_title(page: Page, server: Server) -> None:
    """A title block that comes while the pointer is down in it waits: the press is not lost."""
    arrive(page, server, SLUG, "layer:hooks")
    board = page.evaluate("() => document.documentElement.dataset.board")
    box = until(lambda: page.locator("#night").bounding_box(), bool)
    assert box is not None
    page.mouse.move(box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    page.mouse.down()
    new_panel(page, "#night", "only=title")
    page.wait_for_timeout(300)
    assert page.locator("#night").get_attribute("data-old") == "yes"
    page.mouse.up()
    expect(page.locator("html")).not_to_have_attribute("data-board", board)
    expect(page.locator("#night[data-old]")).to_have_count(0, timeout=20_000)
    page.locator("#night").click()
    expect(page.locator("html")).to_have_attribute("data-board", board)


def test_steps_faster_than_the_answers_all_count(page: Page, server: Server) -> None:
    """Acts that come while one is under way wait in their order: none replaces another."""
    arrive(page, server, SLUG, "layer:veil")
    before, shown = server.document(SLUG), layer_of(server, SLUG, "veil")["visible"]
    page.locator('.band[data-layer="veil"]').focus()
    page.evaluate("""() => { const band = document.activeElement;
        for (const key of ['h', 'd', 'd']) band.dispatchEvent(
            new KeyboardEvent('keydown', { key, bubbles: true })); }""")
    until(lambda: len(server.document(SLUG)["layers"]), lambda n: n == len(before["layers"]) + 2)
    assert layer_of(server, SLUG, "veil")["visible"] != shown
    page.evaluate("""() => { for (let k = 0; k < 3; k++) document.body.dispatchEvent(
        new KeyboardEvent('keydown', { key: 'z', ctrlKey: true, bubbles: true })); }""")
    until(lambda: server.document(SLUG), lambda d: d == before)


def test_a_strip_that_comes_lets_the_hand_type_on(page: Page, server: Server) -> None:
    """The ends of a strip's range: a board that comes between two of them takes neither text nor
    focus, so that Enter orders the range and chooses no frame."""
    arrive(page, server, SLUG, "layer:veil")
    page.locator('[data-path$="cover_oktas"] .range').focus()
    page.keyboard.press("t")
    expect(page.locator("button.frame")).to_have_count(5, timeout=20_000)
    cover = layer_of(server, SLUG, "veil")["cover_oktas"]
    held: list[Route] = []
    page.route("**/strip?*", lambda route: held.append(route))
    page.locator("#range-low").fill("3")
    page.locator("#range-low").press("Enter")
    until(lambda: page.wait_for_timeout(50) or len(held), lambda n: n == 1)
    page.locator("#range-high").fill("4")
    held[0].continue_()
    until(lambda: page.evaluate("document.activeElement.id"), lambda at: at == "range-high")
    expect(page.locator(".frame-label").first).to_have_text("3", timeout=20_000)
    assert page.locator("#range-high").input_value() == "4"
    page.unroute("**/strip?*")
    page.locator("#range-high").press("Enter")
    expect(page.locator(".frame-label").last).to_have_text("4", timeout=20_000)
    assert layer_of(server, SLUG, "veil")["cover_oktas"] == cover
    page.locator("#board-close").click()


def test_undo_takes_back_what_was_sent_wherever_the_focus_is(page: Page, server: Server) -> None:
    """Not the letters of a value that has gone, before a new panel comes; a word half typed is
    the browser's to take back."""
    slug = "high-streaks"
    arrive(page, server, slug, "film")
    plain = server.document(slug)["film"]["exposure_ev"]
    page.route("**/panels?*", lambda route: None)  # no panel comes
    value = page.locator('[data-path="film.exposure_ev"] .value')
    value.fill("12")
    value.press("Enter")
    until(lambda: server.document(slug)["film"]["exposure_ev"], lambda ev: ev == 12.0)
    value.press("Control+z")
    until(lambda: server.document(slug)["film"]["exposure_ev"], lambda ev: ev == plain)
    page.unroute("**/panels?*")
    arrive(page, server, slug, "sun")
    page.locator("#c-sun-mode").select_option("free")
    until(lambda: server.document(slug)["sun"]["mode"], lambda mode: mode == "free")
    page.locator("#c-sun-mode").focus()
    page.keyboard.press("Control+z")
    until(lambda: server.document(slug)["sun"]["mode"], lambda mode: mode == "clock")
    value = page.locator('[data-path="sun.strength"] .value')
    sent: list[str] = []
    page.on("request", lambda request: sent.append(request.url))
    value.press_sequentially("3")
    value.press("Control+z")
    page.wait_for_timeout(500)
    assert not any("/undo" in url for url in sent)

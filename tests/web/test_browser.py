"""The real interface in Chromium: drag, undo, print, refuse."""

from __future__ import annotations

import re
import time
import urllib.request
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Browser, Page, Route, expect

from tests.chromium import (
    CHROMIUM,
    PATIENCE,
    Server,
    arrive,
    compose,
    drag,
    layer_of,
    mean_colour,
    serial,
    until,
)

pytestmark = pytest.mark.skipif(not CHROMIUM.exists(), reason="chromium is not installed")


def test_pictures_follow_while_a_hand_drags(page: Page, server: Server) -> None:
    """Changes that come quicker than pictures can be made do not keep every picture away."""
    compose(page, server, "fair-weather-noon")
    strip = until(lambda: page.locator("#strip").bounding_box(), bool)
    assert strip
    seen, y, end = set(), strip["y"] + 25, time.monotonic() + 60
    page.mouse.move(strip["x"] + 0.597 * strip["width"], y)
    page.mouse.down()
    step = 0
    while len(seen) < 4 and time.monotonic() < end:  # the picture before, and three on the way
        page.mouse.move(strip["x"] + (0.597 + 0.0015 * (step % 40)) * strip["width"], y)
        seen.add(serial(page))
        step += 1
        time.sleep(0.03)
    page.mouse.up()
    assert len(seen) >= 4
    page.keyboard.press("Control+z")
    expect(page.locator("#clock")).to_have_text("14:20", timeout=20_000)


def test_dragging_a_layer_moves_its_base_and_undo_by_key(page: Page, server: Server) -> None:
    arrive(page, server, "high-streaks")
    band = page.locator('.band[data-layer="hooks"] .body')
    box = until(lambda: band.bounding_box(), bool)
    assert box
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    drag(page, (x, y), (x, y + 60))
    expect(page.locator(".schedule h2")).to_have_text("Cirrus uncinus", timeout=20_000)
    moved = server.document("high-streaks")["layers"][1]["base_m"]
    assert 4000 < moved < 8000
    page.keyboard.press("Control+z")
    expect(page.locator("#redo")).to_be_enabled(timeout=20_000)
    assert server.document("high-streaks")["layers"][1]["base_m"] == 8600
    page.keyboard.press("Control+Shift+z")
    expect(page.locator("#redo")).to_be_disabled(timeout=20_000)
    assert server.document("high-streaks")["layers"][1]["base_m"] == moved


def test_schedule_by_keyboard_and_by_number(page: Page, server: Server) -> None:
    arrive(page, server, "veil", "film")
    row = page.locator('[data-path="film.contrast"]')
    row.locator(".range").focus()
    page.keyboard.press("ArrowRight")
    expect(page.locator("#undo")).to_be_enabled(timeout=20_000)
    page.wait_for_timeout(400)
    assert server.document("veil")["film"]["contrast"] == pytest.approx(1.05)
    row.locator(".value").fill("1.2")
    row.locator(".value").press("Enter")
    page.wait_for_timeout(600)
    assert server.document("veil")["film"]["contrast"] == pytest.approx(1.2)
    value = page.locator('[data-path="film.contrast"] .value')
    value.fill("7")
    value.press("Enter")
    expect(page.locator("#notice")).to_contain_text("0.5 to 1.6", timeout=20_000)
    assert server.document("veil")["film"]["contrast"] == pytest.approx(1.2)


def test_two_windows_on_one_sky(browser: Browser, page: Page, server: Server) -> None:
    arrive(page, server, "last-light", "air")
    other = browser.new_page(viewport={"width": 1280, "height": 800})
    arrive(other, server, "last-light", "camera")
    haze = page.locator('[data-path="air.haze"] .value')
    haze.fill("0.2")
    haze.press("Enter")
    expect(other.locator("#notice")).to_contain_text("Another window", timeout=20_000)
    lens = other.locator('[data-path="camera.lens_mm"] .value')
    lens.fill("30")
    lens.press("Enter")
    expect(page.locator("#notice")).to_contain_text("Another window", timeout=20_000)
    found = server.document("last-light")
    assert (found["air"]["haze"], found["camera"]["lens_mm"]) == (0.2, 30)
    other.close()


def test_another_window_shows_where_a_hand_came_to_rest(browser: Browser, page: Page,
                                                        server: Server) -> None:
    """The values of a drag share a revision; panels of other windows follow to the last one."""
    arrive(page, server, "veil", "film")
    other = browser.new_page(viewport={"width": 1280, "height": 800})
    arrive(other, server, "veil", "film")
    other.evaluate("""() => { window.asked = 0; document.addEventListener(
        'htmx:beforeRequest', () => (window.asked += 1)); }""")
    place = '[data-path="film.contrast"] .range'
    box = until(page.locator(place).bounding_box, bool)
    x, y = box["x"] + 0.3 * box["width"], box["y"] + 0.5 * box["height"]
    page.mouse.move(x, y)
    page.mouse.down()
    for k in range(40):
        page.mouse.move(x + 0.01 * k * box["width"], y)
        time.sleep(0.03)
    page.mouse.up()
    said = '[data-path="film.contrast"] .value'
    until(lambda: server.document("veil")["film"]["contrast"],
          lambda found: found == pytest.approx(float(page.locator(said).input_value())))
    expect(other.locator(said)).to_have_value(page.locator(said).input_value(), timeout=20_000)
    asked = other.evaluate("window.asked")
    page.wait_for_timeout(1500)
    assert other.evaluate("window.asked") == asked < 8  # not with each value, nor again and again
    # A window that holds something itself takes nothing in, and does not ask without a pause.
    held = until(other.locator(place).bounding_box, bool)
    other.mouse.move(held["x"] + 0.5 * held["width"], held["y"] + 0.5 * held["height"])
    other.mouse.down()
    other.wait_for_timeout(1500)
    page.locator(said).fill("0.9")
    page.locator(said).press("Enter")
    until(lambda: server.document("veil")["film"]["contrast"], lambda found: found == 0.9)
    polls: list[str] = []
    other.on("request", lambda request: polls.append(request.url) if "/live?" in request.url
             else None)
    other.wait_for_timeout(3000)
    assert len(polls) < 12
    other.mouse.up()
    other.close()


def test_bad_import_shows_a_clear_message(page: Page, server: Server, tmp_path: Path) -> None:
    bad = tmp_path / "bad.json"
    bad.write_text('{"dovrek": 1, "layers": [{"thickness_m": -5}]}')
    page.goto(server.url)
    hung = page.locator(".hung").count()
    page.locator("#file").set_input_files(bad)
    page.get_by_role("button", name="Import", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("layers[0].thickness_m")
    expect(page.get_by_role("alert")).to_contain_text("10 to 15000 m")
    large = tmp_path / "large.json"
    large.write_bytes(b" " * (4 << 20))
    page.goto(server.url)
    page.locator("#file").set_input_files(large)
    page.get_by_role("button", name="Import", exact=True).click()
    expect(page.locator("#notice")).to_contain_text("too large")
    assert page.locator(".hung").count() == hung > 6


def test_print_a_png_and_read_it_back(page: Page, server: Server, tmp_path: Path) -> None:
    arrive(page, server, "veil")
    page.locator("#order").click()
    page.locator("#p-width").fill("320")
    page.locator("#p-height").fill("180")
    page.locator("#p-quality").select_option("draft")
    page.get_by_role("button", name="Order print").click()
    row = page.locator("tr[data-print]").first
    expect(row).to_have_attribute("data-state", "done", timeout=PATIENCE)
    with page.expect_download() as waiting:
        row.get_by_role("link", name="File").click()
    path = tmp_path / "print.png"
    waiting.value.save_as(path)
    picture = Image.open(path)
    assert picture.size == (320, 180)
    pixels = np.asarray(picture, dtype=float)
    assert pixels[:40].mean(axis=(0, 1))[2] > pixels[:40].mean(axis=(0, 1))[0]
    assert 40 < pixels.mean() < 220
    row.get_by_role("link").first.click()
    expect(page.locator(".viewer img")).to_be_visible()


def test_a_dome_is_ordered_with_what_goes_with_it(page: Page, server: Server) -> None:
    """The dialog asks only what goes with a kind; the dome comes with lights and proof."""
    arrive(page, server, "veil")
    page.locator("#order").click()
    page.locator("#p-kind").select_option("film")
    expect(page.locator("#p-height")).to_be_visible()
    for name in ("#p-format", "#p-sun", "#p-passes"):
        expect(page.locator(name)).to_be_hidden()
        expect(page.locator(name)).to_be_disabled()
    page.locator("#p-kind").select_option("dome")
    expect(page.locator("#p-height")).to_be_hidden()
    expect(page.locator("#p-sun")).to_be_visible()
    page.locator("#p-width").fill("128")
    page.locator("#p-quality").select_option("draft")
    page.get_by_role("button", name="Order print").click()
    row = page.locator("tr[data-print]").first
    expect(row).to_have_attribute("data-state", "done", timeout=PATIENCE)
    row.get_by_role("link").first.click()
    names = page.locator(".files a").all_inner_texts()[1:]  # after the archive of all
    assert [n.rpartition(".")[2] for n in names] == ["exr", "json", "usda", "png"]
    expect(page.get_by_role("img", name="Proof of lighting")).to_be_visible()
    seen = page.locator("#seen")
    plain = seen.get_attribute("src")
    page.get_by_role("button", name="Look around").click()
    expect(seen).to_have_attribute("src", re.compile("around=1"))
    box = until(lambda: page.locator("#viewer").bounding_box(),
                lambda b: b and b["height"] > 100)
    drag(page, (box["x"] + 300, box["y"] + 60), (box["x"] + 200, box["y"] + 60))
    expect(seen).to_have_attribute("src", re.compile("heading=(?!0&)"), timeout=20_000)
    page.locator("#stops").fill("2")
    expect(seen).to_have_attribute("src", re.compile("stops=2"), timeout=20_000)
    assert seen.get_attribute("src") != plain
    page.get_by_role("link", name="Again with changes").click()
    expect(page.locator("#p-kind")).to_have_value("dome", timeout=PATIENCE)
    expect(page.locator("#p-width")).to_have_value("128")


def test_the_dialog_offers_what_goes_together_and_foretells(page: Page, server: Server) -> None:
    arrive(page, server, "veil")
    page.locator("#order").click()
    expect(page.locator("#p-passes")).to_be_disabled()
    expect(page.get_by_text("Only OpenEXR holds passes.")).to_be_visible()
    page.locator("#p-format").select_option("exr-half")
    expect(page.locator("#p-passes")).to_be_enabled()
    expect(page.locator("#p-primaries")).to_be_enabled()
    page.locator("#p-width").fill("320")
    page.locator("#p-height").fill("180")
    page.locator("#p-quality").select_option("draft")
    expect(page.locator("#p-forecast .figures")).to_contain_text("Memory", timeout=PATIENCE)
    page.locator("#p-habit-name").fill("small draft")
    page.locator("#p-hours").fill("07:00, 12:00")
    page.get_by_role("button", name="Order print").click()
    rows = page.locator("tr.party")
    expect(rows).to_have_count(2)
    rows.first.get_by_role("button", name="Pause").click()
    expect(page.locator("tr.party[data-state=paused]")).to_have_count(1)
    page.locator("tr[data-state=paused]").get_by_role("button", name="Go on").click()
    expect(page.locator("tr[data-state=paused]")).to_have_count(0)
    for _ in range(2):
        page.locator("tr.party").get_by_role("button", name="Remove").first.click()
    arrive(page, server, "veil")
    page.keyboard.press("p")
    page.locator("#p-habit").select_option("small draft")
    expect(page.locator("#p-width")).to_have_value("320")
    expect(page.locator("#p-format")).to_have_value("exr-half")


@pytest.mark.long
def test_a_killed_server_loses_nothing(page: Page, server: Server) -> None:
    arrive(page, server, "last-light", "camera")
    pitch = page.locator('[data-path="camera.pitch_deg"] .value')
    pitch.fill("17.5")
    pitch.press("Enter")
    page.wait_for_timeout(500)
    server.kill()
    server.start()
    arrive(page, server, "last-light", "camera")
    assert server.document("last-light")["camera"]["pitch_deg"] == 17.5
    expect(page.locator("#undo")).to_be_enabled()


def test_a_switch_and_the_exposure(page: Page, server: Server) -> None:
    """Shadow rays are a box to tick; an exposure's picture comes with the answer to its change."""
    slug = "high-streaks"
    arrive(page, server, slug, "air")
    page.locator('[data-path="air.shadow_rays"] input').check()
    until(lambda: server.document(slug)["air"]["shadow_rays"], bool)
    assert server.document(slug)["air"]["shadow_rays"] is True
    page.keyboard.press("Control+z")
    expect(page.locator('[data-path="air.shadow_rays"] input')).not_to_be_checked()
    assert server.document(slug)["air"]["shadow_rays"] is False
    compose(page, server, slug, "film")
    before, plain = mean_colour(page), server.document(slug)["film"]["exposure_ev"]
    with page.expect_response(lambda r: "/change?" in r.url) as answer:
        page.locator('[data-path="film.exposure_ev"] .value').fill("12")
        page.locator('[data-path="film.exposure_ev"] .value').press("Enter")
    said = answer.value.json()
    assert said["picture"]["revision"] == said["revision"] and said["picture"]["image"]
    page.wait_for_function("r => Number(document.getElementById('picture').dataset.revision) >= r",
                           arg=said["revision"])
    assert mean_colour(page).mean() > before.mean() + 20
    page.keyboard.press("Control+z")
    until(lambda: server.document(slug)["film"]["exposure_ev"], lambda ev: ev == plain)


def test_species_and_features_set_their_controls(page: Page, server: Server) -> None:
    """Words chosen in the schedule change the controls they stand for, and undo takes it back."""
    slug, layer = "high-streaks", "layers"
    document = server.document(slug)
    heap = next(x for x in document["layers"] if x["genus"] == "cumulus")
    arrive(page, server, slug, f"layer:{heap['id']}")
    page.locator(f"#c-{layer}-{heap['id']}-species").select_option("congestus")
    now = until(lambda: layer_of(server, slug, heap["id"]), lambda x: x["species"] == "congestus")
    assert now["thickness_m"] == 4200.0 and now["base_m"] == heap["base_m"]
    rain = page.get_by_label("praecipitatio")
    expect(rain).to_be_visible()
    rain.check()
    now = until(lambda: layer_of(server, slug, heap["id"]), lambda x: x["features"])
    assert now["fall"] == {"amount": 0.7, "reach": 1.0}
    for _ in range(2):
        page.keyboard.press("Control+z")
        time.sleep(0.4)
    back = until(lambda: layer_of(server, slug, heap["id"]), lambda x: x == heap)
    assert back == heap


def test_profile_is_drawn_as_a_curve(page: Page, server: Server) -> None:
    """A point is moved by keys, another dragged, one added by a press, all stored; then reset."""
    slug = "high-streaks"
    heap = next(x for x in server.document(slug)["layers"] if x["genus"] == "cumulus")
    arrive(page, server, slug, f"layer:{heap['id']}")
    curve = page.locator("svg.curve")
    curve.scroll_into_view_if_needed()

    def profile() -> Any:
        return layer_of(server, slug, heap["id"])["body"]["profile"]

    curve.locator("circle").nth(1).focus()
    for step in range(1, 5):  # each is stored; the panel that follows keeps the focus
        expect(curve.locator("circle").nth(1)).to_be_focused()
        page.keyboard.press("ArrowDown")
        wanted = [0.5, pytest.approx(1.0 - 0.05 * step)]
        assert until(profile, lambda p, w=wanted: len(p) == 3 and p[1] == w)[1] == wanted
    box = until(lambda: curve.bounding_box(), bool)
    assert box is not None
    last = until(lambda: curve.locator("circle").nth(2).bounding_box(), bool)
    assert last is not None
    page.mouse.move(last["x"] + last["width"] / 2, last["y"] + last["height"] / 2)
    page.mouse.down()
    page.mouse.move(last["x"], box["y"] + 0.8 * box["height"], steps=4)
    page.mouse.up()
    assert until(profile, lambda p: p[2][1] < 0.5)[2][1] < 0.5
    middle = until(lambda: curve.locator("circle").nth(1).bounding_box(), bool)
    assert middle is not None
    page.mouse.click(middle["x"] - 0.2 * box["width"], box["y"] + 0.5 * box["height"])
    assert len(until(profile, lambda p: len(p) == 4)) == 4
    page.reload()
    expect(page.locator("#picture[data-revision]")).to_be_visible(timeout=PATIENCE)
    page.get_by_label("Profile: back to the genus's own").click()
    assert until(profile, lambda p: p == []) == []


def test_a_panel_that_comes_late_takes_no_press_back(page: Page, server: Server) -> None:
    """A panel asked for before a press and shown after it would show what was, and the next press
    would go on from there."""
    slug = "high-streaks"
    heap = next(x for x in server.document(slug)["layers"] if x["genus"] == "cumulus")
    arrive(page, server, slug, f"layer:{heap['id']}")
    point, held = page.locator("svg.curve circle").nth(1), []

    def hold(route: Route) -> None:
        held.append((route, route.fetch() if not held else None))

    def density() -> Any:
        return layer_of(server, slug, heap["id"])["body"]["profile"]

    def pressed(value: float) -> None:
        page.keyboard.press("ArrowDown")
        wanted = pytest.approx(value)
        assert until(density, lambda p: len(p) == 3 and p[1][1] == wanted)[1][1] == wanted
        page.wait_for_timeout(300)  # its answer is here too

    page.route("**/panels?touched=*", hold)
    before = float(point.get_attribute("aria-valuenow") or 0)
    point.focus()
    pressed(before - 0.05)
    pressed(before - 0.1)
    first, answer = held[0]  # asked for after one press
    first.fulfill(response=answer)
    page.wait_for_timeout(300)
    pressed(before - 0.15)
    page.unroute("**/panels?touched=*")  # the others go on
    expect(point).to_have_attribute("aria-valuenow", f"{before - 0.15:.2f}")


def test_folded_groups_stay_as_they_were_left(page: Page, server: Server) -> None:
    slug = "high-streaks"
    first = server.document(slug)["layers"][0]
    arrive(page, server, slug, f"layer:{first['id']}")
    group = page.locator("details[data-group=Life]")
    expect(group).not_to_have_attribute("open", "")
    group.locator("summary").click()
    page.locator("[data-toggle]").first.click()  # the schedule is drawn anew
    expect(page.locator("[data-toggle]").first).to_have_attribute("aria-pressed", "false")
    expect(page.locator("details[data-group=Life]")).to_have_attribute("open", "")
    page.keyboard.press("Control+z")


@pytest.mark.long
def test_forty_windows_are_served(browser: Browser, server: Server) -> None:
    """Forty windows of one browser, all of one sky: each shows its picture, a change made in one
    reaches every one that is looked at, and the server still answers a page at once."""
    context = browser.new_context(viewport={"width": 640, "height": 400})
    windows = [context.new_page() for _ in range(40)]
    try:
        for window in windows:
            window.goto(f"{server.url}/skies/fair-weather-noon/?selected=air",
                        wait_until="domcontentloaded")
        for window in windows:
            window.bring_to_front()
            expect(window.locator("#picture[data-revision]")).to_be_visible(timeout=PATIENCE)
        start = time.monotonic()
        urllib.request.urlopen(f"{server.url}/", timeout=10).read()
        assert time.monotonic() - start < 10.0
        told = windows[-1].locator("#undo").inner_text()
        windows[-1].locator('[data-path="air.haze"] .value').press("ArrowUp")
        expect(windows[-1].locator("#undo")).not_to_have_text(told, timeout=PATIENCE)
        told = windows[-1].locator("#undo").inner_text().strip()
        for window in (windows[0], windows[20]):
            window.bring_to_front()
            expect(window.locator("#undo")).to_have_text(told, timeout=PATIENCE)
    finally:
        context.close()


def test_a_change_whose_token_was_lost_is_asked_again(page: Page, server: Server) -> None:
    """A token that the server does not know any more is exchanged, and the change is stored."""
    arrive(page, server, "last-light", "air")
    before = server.document("last-light")["air"]["haze"]
    # Other tests of this module may have changed the sky before.
    told = page.locator("#undo").inner_text().split()
    steps = int(told[-1]) if told[-1].isdigit() else 0
    lost: list[str] = []

    def lose(route: Any) -> None:
        headers = dict(route.request.headers)
        if not lost:
            headers["x-token"] = "of another visit"
        lost.append(headers["x-token"])
        route.continue_(headers=headers)

    page.route("**/change?*", lose)
    page.locator('[data-path="air.haze"] .value').press("ArrowUp")
    expect(page.locator("#undo")).to_contain_text(f"undo {steps + 1}", timeout=20_000)
    assert server.document("last-light")["air"]["haze"] > before
    assert len(lost) == 2 and lost[0] != lost[1]

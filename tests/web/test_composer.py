"""Judging and choosing in the real interface: views, handles, strips, versions, recipes, axe."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import Browser, Page, expect

from tests.chromium import (
    CHROMIUM,
    PATIENCE,
    Server,
    arrive,
    compose,
    drag,
    layer_of,
    mean_colour,
    settle,
    until,
)

pytestmark = pytest.mark.skipif(not CHROMIUM.exists(), reason="chromium is not installed")

SLUG = "high-streaks"
VEIL = "veil"  # of one layer, soon built
AXE = Path(__file__).parent.parent / "vendor/axe.min.js"  # Deque's axe-core, from npm, MPL 2.0


def quality(page: Page, text: str) -> None:
    expect(page.locator("#quality")).to_contain_text(text, timeout=PATIENCE)


def steps(page: Page) -> int:
    return int((page.locator("#undo").text_content() or "").split()[-1])


def middle(page: Page, selector: str) -> tuple[float, float]:
    box = until(lambda: page.locator(selector).first.bounding_box(), bool)
    assert box
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2


def test_sun_and_camera_are_dragged_in_the_picture(page: Page, server: Server) -> None:
    arrive(page, server, "last-light", "camera")
    before, back = server.document("last-light"), steps(page)
    page.keyboard.press("2")
    expect(page.locator("#overlay")).to_have_attribute("data-view", "dome", timeout=20_000)
    quality(page, "×")
    x, y = middle(page, "#sun-handle .ring")
    drag(page, (x, y), (x - 60, y - 60))
    moved = until(lambda: server.document("last-light")["moment"],
                  lambda m: m != before["moment"])
    assert moved < before["moment"] and moved[:10] == before["moment"][:10]
    expect(page.locator("#undo")).to_contain_text(f"undo {back + 1}", timeout=20_000)
    page.keyboard.press("Control+z")
    until(lambda: server.document("last-light")["moment"], lambda m: m == before["moment"])
    page.keyboard.press("1")
    expect(page.locator("#overlay")).to_have_attribute("data-view", "picture", timeout=20_000)
    quality(page, "×")  # the plate takes the picture's shape when the picture comes
    box = page.locator("#plate").bounding_box()
    assert box
    horizon = box["y"] + box["height"] * page.evaluate(
        """() => { const g = document.querySelector('.horizon').getBBox();
        const o = document.getElementById('overlay');
        return (g.y + g.height / 2) / Number(o.dataset.height); }""")
    x = box["x"] + 0.3 * box["width"]
    drag(page, (x, horizon), (x + 90, horizon - 40))
    camera = until(lambda: server.document("last-light")["camera"],
                   lambda c: c["pitch_deg"] != before["camera"]["pitch_deg"])
    camera = until(lambda: server.document("last-light")["camera"],
                   lambda c: c["pitch_deg"] < before["camera"]["pitch_deg"] - 2)
    # Right and up under the hand: the camera turns left and down.
    turned = (camera["heading_deg"] - before["camera"]["heading_deg"] + 180) % 360 - 180
    assert turned < -3 and camera["pitch_deg"] < before["camera"]["pitch_deg"]
    page.mouse.move(x, box["y"] + 60)
    page.mouse.wheel(0, -120)
    until(lambda: server.document("last-light")["camera"]["lens_mm"],
          lambda mm: mm > before["camera"]["lens_mm"])
    page.locator("#aim").focus()
    page.keyboard.press("ArrowUp")
    until(lambda: server.document("last-light")["camera"]["pitch_deg"],
          lambda p: abs(p - camera["pitch_deg"] - 1.0) < 0.01)


def test_plan_has_wind_to_drag_and_panorama_turns(page: Page, server: Server) -> None:
    arrive(page, server, SLUG)
    page.keyboard.press("3")
    expect(page.locator(".wind")).to_have_count(3, timeout=20_000)
    page.locator("#extent").select_option("80")
    expect(page.locator(".scale-bar text")).to_have_text("20 km", timeout=20_000)
    arrow = page.locator('.wind[data-layer="hooks"]')
    x, y = middle(page, '.wind[data-layer="hooks"] .grip')
    drag(page, (x + 3, y), (x, y + 60))  # it blows southward: from the north
    until(lambda: layer_of(server, SLUG, "hooks")["wind"]["from_deg"], lambda d: d in (0, 360))
    assert layer_of(server, SLUG, "hooks")["wind"]["from_deg"] in (0, 360)
    expect(arrow).to_have_attribute("aria-valuetext", "from 0°", timeout=20_000)
    page.keyboard.press("Control+z")
    page.keyboard.press("2")
    quality(page, "×")
    page.locator("#around").click()
    panorama = page.locator("#panorama")
    expect(panorama).to_be_visible()
    first = panorama.get_attribute("data-heading")
    x, y = middle(page, "#panorama")
    drag(page, (x, y), (x - 120, y))
    assert float(panorama.get_attribute("data-heading") or 0) > float(first or 0) + 5
    page.keyboard.press("1")
    expect(panorama).to_be_hidden()


def test_a_link_opens_in_a_view(page: Page, server: Server) -> None:
    """A second window on the plan: its tab, its handles and its picture agree."""
    page.goto(f"{server.url}/skies/{SLUG}/?view=plan")
    expect(page.locator('button[data-view="plan"]')).to_have_attribute("aria-pressed", "true")
    expect(page.locator(".wind")).to_have_count(3, timeout=20_000)
    expect(page.locator("#extent")).to_be_visible()
    quality(page, "×")
    wide, high = page.evaluate("() => { const c = document.getElementById('picture');"
                               " return [c.width, c.height]; }")
    assert wide / high < 1.6  # the plan is squarer than the picture
    page.keyboard.press("1")
    expect(page.locator("#overlay")).to_have_attribute("data-view", "picture", timeout=20_000)


def test_a_test_strip_is_chosen_by_arrow_and_enter(page: Page, server: Server) -> None:
    arrive(page, server, VEIL, "layer:veil")
    back, before = steps(page), layer_of(server, VEIL, "veil")["cover_oktas"]
    page.locator('[data-path$="cover_oktas"] .range').focus()
    page.keyboard.press("t")
    expect(page.locator("button.frame img:visible")).to_have_count(5, timeout=60_000)
    shades = page.evaluate(
        """() => Promise.all([...document.querySelectorAll('button.frame img')].map(async (img) => {
        await img.decode();
        const c = document.createElement('canvas'); c.width = 32; c.height = 18;
        const g = c.getContext('2d'); g.drawImage(img, 0, 0, 32, 18);
        const d = g.getImageData(0, 0, 32, 9).data; let sum = 0;
        for (let k = 0; k < d.length; k += 4) sum += d[k] / (d[k + 2] + 1);
        return sum; }))""")
    assert shades[-1] > shades[0]  # more veil, less blue
    page.keyboard.press("Home")
    page.locator('button.frame[data-frame="2"]').focus()
    page.keyboard.press("ArrowRight")
    page.keyboard.press("Enter")
    until(lambda: layer_of(server, VEIL, "veil")["cover_oktas"], lambda c: c == 6.0)
    expect(page.locator("#undo")).to_contain_text(f"undo {back + 1}", timeout=20_000)
    expect(page.locator('button.frame[data-frame="3"]')).to_have_attribute("aria-selected", "true")
    page.locator("#range-low").fill("1")
    page.locator("#range-high").fill("2")
    page.locator("#range-high").press("Enter")
    expect(page.locator(".frame-label").first).to_have_text("1", timeout=20_000)
    page.locator('[data-strip$="body.fray"]').click(modifiers=["Shift"])
    expect(page.locator("button.frame")).to_have_count(16, timeout=20_000)
    page.locator("#board-close").click()
    expect(page.locator("#board")).to_have_count(0)
    page.keyboard.press("Control+z")
    until(lambda: layer_of(server, VEIL, "veil")["cover_oktas"], lambda c: c == before)


def test_a_sheet_of_hours(page: Page, server: Server) -> None:
    arrive(page, server, VEIL)
    page.locator('[data-sheet="hours"]').click()
    expect(page.locator("button.frame img:visible")).to_have_count(12, timeout=90_000)
    label = page.locator(".frame-label").nth(1).text_content()
    page.locator("button.frame").nth(1).click()
    until(lambda: server.document(VEIL)["moment"][11:], lambda m: m == label)
    page.keyboard.press("Escape")
    page.keyboard.press("Control+z")


def test_layers_in_hand(page: Page, server: Server) -> None:
    compose(page, server, SLUG, "layer:scraps")
    whole = mean_colour(page)
    page.locator('[data-alone="scraps"]').click()
    expect(page.locator('[data-alone="scraps"]')).to_have_attribute("aria-pressed", "true")
    settle(page, server)
    assert np.abs(mean_colour(page) - whole).max() > 3  # the streaks are gone
    assert all(x["visible"] for x in server.document(SLUG)["layers"])
    page.locator('[data-alone="scraps"]').click()
    page.locator('[data-lock="scraps"]').click()
    expect(page.locator('[data-lock="scraps"]')).to_have_attribute("aria-pressed", "true")
    value = page.locator('[data-path$="cover_oktas"] .value')
    value.fill("5")
    value.press("Enter")
    expect(page.locator("#notice")).to_contain_text("locked", timeout=20_000)
    page.locator('[data-lock="scraps"]').click()
    expect(page.locator('[data-lock="scraps"]')).to_have_attribute("aria-pressed", "false")
    seed = layer_of(server, SLUG, "scraps")["seed"]
    page.locator('[data-deal="scraps"]').click()
    until(lambda: layer_of(server, SLUG, "scraps")["seed"], lambda s: s == seed + 1)
    page.locator(".more-acts summary").click()
    page.evaluate("() => htmx.ajax('GET', `${location.pathname}panels?only=section,schedule"
                  "&selected=layer:scraps`, { target: '#composer', swap: 'none' })")
    page.locator("[data-deals]").click()  # the menu is open still, in the panel drawn anew
    page.locator(f'[data-earlier="{seed}"]').click()
    until(lambda: layer_of(server, SLUG, "scraps")["seed"], lambda s: s == seed)
    page.locator('[data-freeze="scraps"]').click()
    expect(page.locator('[data-deal="scraps"]')).to_be_disabled(timeout=20_000)
    page.locator('[data-freeze="scraps"]').click()
    expect(page.locator('[data-deal="scraps"]')).to_be_enabled(timeout=20_000)
    page.locator(".more-acts summary").click()
    page.locator("[data-copy]").click()
    page.locator("#copy-to").select_option("hooks")
    page.get_by_role("button", name="Copy", exact=True).click()
    fray = layer_of(server, SLUG, "scraps")["body"]["fray"]
    until(lambda: layer_of(server, SLUG, "hooks")["body"]["fray"], lambda f: f == fray)
    page.keyboard.press("Control+z")
    until(lambda: layer_of(server, SLUG, "hooks")["body"]["fray"], lambda f: f == 0.75)


def test_numbers_and_guides_in_the_picture(page: Page, server: Server, tmp_path: Path) -> None:
    compose(page, server, VEIL)
    box = page.locator("#plate").bounding_box()
    assert box
    page.mouse.move(box["x"] + 200, box["y"] + 60)
    page.mouse.move(box["x"] + 202, box["y"] + 60)
    expect(page.locator("#readout")).to_contain_text("cd/m²", timeout=20_000)
    page.keyboard.press("x")
    expect(page.locator("#exposure")).to_be_visible()
    expect(page.locator("#ramp")).to_contain_text("-3")
    page.keyboard.press("x")
    page.keyboard.press("g")
    expect(page.locator("#show-guides")).to_have_attribute("aria-pressed", "true")
    page.keyboard.press("z")
    assert page.locator("#plate").bounding_box()["width"] == pytest.approx(240, abs=1)  # type: ignore
    page.keyboard.press("z")
    drawing = tmp_path / "house.png"
    Image.new("RGBA", (200, 100), (0, 0, 0, 0)).save(drawing)
    page.locator("#drawing-file").set_input_files(drawing)
    expect(page.locator("#drawing")).to_be_visible(timeout=20_000)
    page.reload()
    expect(page.locator("#drawing")).to_be_visible()
    page.locator("#drop-drawing").click()
    expect(page.locator("#drawing")).to_be_hidden()
    page.locator('[data-path$="body.fray"] .range').focus()
    expect(page.locator("#help-line")).not_to_be_empty()


def test_an_advisory_is_mended_by_one_press(page: Page, server: Server) -> None:
    arrive(page, server, SLUG, "layer:scraps")
    base = page.locator('[data-path$="base_m"] .value')
    base.fill("5200")
    base.press("Enter")
    mend = page.locator('[data-note="Mend: étage"]')
    expect(mend).to_be_visible(timeout=20_000)
    mend.click()
    until(lambda: layer_of(server, SLUG, "scraps")["base_m"], lambda b: b == 2000.0)
    expect(mend).to_have_count(0, timeout=20_000)


def test_a_recipe_is_saved_found_and_inserted(page: Page, server: Server) -> None:
    arrive(page, server, VEIL, "layer:veil")
    page.locator(".more-acts summary").click()
    page.locator("[data-recipe]").click()
    page.locator("#recipe-name").fill("Saltworks veil")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.locator("#notice")).to_contain_text("Saltworks veil", timeout=20_000)
    count = len(server.document(VEIL)["layers"])
    page.locator("#insert").click()
    page.locator('.slip[data-insert="wool-tufts"]').click()
    page.locator("#insert-base").fill("3300")
    page.get_by_role("button", name="Insert", exact=True).click()
    layers = until(lambda: server.document(VEIL)["layers"], lambda x: len(x) == count + 1)
    assert layers[-1]["species"] == "floccus" and layers[-1]["base_m"] == 3300
    expect(page.locator(".schedule h2")).to_have_text("Wool tufts", timeout=20_000)
    page.keyboard.press("Control+z")
    until(lambda: len(server.document(VEIL)["layers"]), lambda n: n == count)
    # Dropped on the section it goes in where it is let go.
    section = until(lambda: page.locator("#section > svg").bounding_box(), bool)
    page.locator('.slip[data-name="Saltworks veil"]').scroll_into_view_if_needed()
    x, y = middle(page, '.slip[data-name="Saltworks veil"]')
    drag(page, (x, y), (section["x"] + 120, section["y"] + 0.5 * section["height"]))
    layers = until(lambda: server.document(VEIL)["layers"], lambda x: len(x) == count + 1)
    assert layers[-1]["name"] == "Saltworks veil"
    base = layers[-1]["base_m"]
    assert 1500 < base < 4500 and base % 10 == 0  # half-way up stands about 2.7 km
    page.keyboard.press("Control+z")
    page.goto(f"{server.url}/recipes")
    page.locator("#words").fill("saltworks")
    expect(page.locator("[data-recipe]")).to_have_count(1, timeout=20_000)
    page.locator("#words").fill("")
    page.locator("#genus").select_option("cumulonimbus")
    expect(page.locator("[data-recipe]")).to_have_count(4, timeout=20_000)
    page.locator("#words").press_sequentially("far")
    expect(page.locator("[data-recipe]")).to_have_count(1, timeout=20_000)
    page.locator("[data-recipe] summary").click()  # the wall that was found offers what to do, too
    place = page.locator('[data-recipe] select[name="sky"]')
    expect(place.locator(f'option[value="{VEIL}"]')).to_have_count(1, timeout=20_000)
    place.select_option(VEIL)
    page.get_by_role("button", name="Insert").or_(page.get_by_role("button", name="Use")).click()
    page.wait_for_url(f"**/skies/{VEIL}/*")
    layers = until(lambda: server.document(VEIL)["layers"], lambda x: len(x) > count)
    assert "cumulonimbus" in [layer["genus"] for layer in layers]


def test_a_wall_goes_on_where_it_is_scrolled_to(page: Page, server: Server) -> None:
    kept = json.dumps({"dovrek": 1, "name": "Wall study"})
    page.goto(server.url)
    had = page.locator("li.hung").count()
    token = page.locator("[data-token]").first.get_attribute("data-token")
    for _ in range(25):
        page.request.post(f"{server.url}/skies/import", headers={"X-Token": token or ""},
                          multipart={"file": {"name": "a.json", "mimeType": "application/json",
                                              "buffer": kept.encode()}}, max_redirects=0)
    page.goto(server.url)
    expect(page.locator("li.hung")).to_have_count(24)
    page.locator("li.older").scroll_into_view_if_needed()
    expect(page.locator("li.hung")).to_have_count(had + 25, timeout=20_000)
    expect(page.locator("li.older")).to_have_count(0)
    page.locator("#words").press_sequentially("last light")
    expect(page.locator("li.hung")).to_have_count(1, timeout=20_000)
    page.locator("li.hung summary").click()
    page.wait_for_timeout(600)  # leaving the field looks for nothing anew
    expect(page.get_by_role("button", name="Rename")).to_be_visible()


def test_two_windows_drag_one_band(browser: Browser, page: Page, server: Server) -> None:
    other = browser.new_page(viewport={"width": 1280, "height": 800})
    for window in (page, other):
        arrive(window, server, SLUG)
    base, back = layer_of(server, SLUG, "hooks")["base_m"], steps(page)
    x, y = middle(page, '.band[data-layer="hooks"] .body')
    for window in (page, other):
        window.mouse.move(x, y)
        window.mouse.down()
    for k in range(1, 5):
        page.mouse.move(x, y + 12 * k)
        other.mouse.move(x, y - 9 * k)
        time.sleep(0.15)
    for window in (page, other):
        window.mouse.up()
    for window in (page, other):  # told, and showing what is stored
        expect(window.locator("#notice")).to_contain_text("Another window", timeout=20_000)
    stored = until(lambda: layer_of(server, SLUG, "hooks")["base_m"], lambda b: b != base)
    for window in (page, other):
        expect(window.locator('.band[data-layer="hooks"]')).to_have_attribute(
            "data-base", f"{layer_of(server, SLUG, 'hooks')['base_m']:.1f}", timeout=20_000)
    other.close()
    for _ in range(10):  # nothing is lost: every step of either can be taken back
        if steps(page) == back:
            break
        left = steps(page)
        page.keyboard.press("Control+z")
        expect(page.locator("#undo")).not_to_contain_text(f"undo {left}", timeout=20_000)
    assert stored != base and layer_of(server, SLUG, "hooks")["base_m"] == base


def test_a_change_made_while_the_server_is_away_is_sent_later(page: Page, server: Server) -> None:
    arrive(page, server, SLUG, "layer:hooks")
    before = layer_of(server, SLUG, "hooks")["base_m"]
    server.kill()
    x, y = middle(page, '.band[data-layer="hooks"] .body')
    drag(page, (x, y), (x, y + 40))
    expect(page.locator("#notice")).to_contain_text("kept here", timeout=20_000)
    shown = page.locator("#drag-note").text_content()
    server.start()
    moved = until(lambda: layer_of(server, SLUG, "hooks")["base_m"], lambda b: b != before, 30)
    assert moved < before
    assert shown == f"base {moved:.0f} m"
    expect(page.locator("#notice")).to_contain_text("stored", timeout=20_000)


def found_by_axe(page: Page) -> list[str]:
    page.evaluate(AXE.read_text())
    said: Any = page.evaluate("""async () => {
        const r = await axe.run(document, { resultTypes: ['violations'] });
        return r.violations.filter((v) => ['serious', 'critical'].includes(v.impact))
          .map((v) => `${v.id}: ${v.nodes.slice(0, 3).map((n) => n.target.join(' '))}`); }""")
    return list(said)


def test_every_page_fits_people(browser: Browser, page: Page, server: Server) -> None:
    """No serious finding by axe, by night on the pages with most of its colours; no sideways scroll
    at 200 % zoom."""
    paths = ["/", f"/skies/{SLUG}/?selected=layer:veil", f"/skies/{SLUG}/?selected=camera",
             f"/skies/{SLUG}/compare", "/recipes", "/prints",
             "/guide", "/bin/", "/weather/"]
    findings = []
    for board in ("day", "night"):
        page.context.add_cookies([{"name": "board", "value": board, "url": server.url}])
        for path in paths if board == "day" else (paths[0], paths[1], paths[3]):
            page.goto(server.url + path)
            page.wait_for_timeout(300)
            findings += [f"{path}, {board} board: {x}" for x in found_by_axe(page)]
    assert findings == []
    for path in paths:
        page.set_viewport_size({"width": 640, "height": 400})
        page.goto(server.url + path)
        wide = page.evaluate("() => document.documentElement.scrollWidth")
        assert wide <= 641, f"{path} is {wide} wide at 200 %"
    page.set_viewport_size({"width": 3840, "height": 2160})
    page.goto(f"{server.url}/skies/{SLUG}/")
    box = page.locator("#plate").bounding_box()
    assert box and box["width"] > 2000

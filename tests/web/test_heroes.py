"""Clouds placed by hand in Chromium: set down by a press, drawn out, copied and removed by key."""

from __future__ import annotations

from typing import Any

import pytest
from flask.testing import FlaskClient
from playwright.sync_api import Page, expect

from dovrek.store import skies
from tests.chromium import (
    Server,
    arrive,
    compose,
    drag,
    layer_of,
    middle_of,
    until,
)
from tests.web.test_judging import client, head, post  # noqa: F401  fixtures of the plain pages

SLUG = "fair-weather-noon"


def heroes(server: Server) -> list[dict[str, Any]]:
    found: list[dict[str, Any]] = layer_of(server, SLUG, "heaps")["heroes"]
    return found


def grip(page: Page, kind: str) -> tuple[float, float]:
    return middle_of(page.locator(f'.hero-mark.chosen [data-grip="{kind}"]'))


@pytest.mark.long
def test_a_dealt_cloud_is_taken_in_hand(page: Page, server: Server) -> None:
    """Pressed in the picture, it becomes one of the list; undo deals it again."""
    compose(page, server, SLUG, "layer:heaps")
    page.locator("[data-take]").click()
    expect(page.locator("#notice")).to_contain_text("Press the cloud", timeout=20_000)
    plate = until(page.locator("#plate").bounding_box, bool)
    page.mouse.click(plate["x"] + 0.45 * plate["width"], plate["y"] + 0.47 * plate["height"])
    hero = until(lambda: heroes(server), lambda h: len(h) == 1, 60.0)[0]
    assert hero["taken"] and hero["taken"]["east_m"] == hero["east_m"]
    expect(page.locator(".hero-mark.chosen")).to_have_count(1, timeout=20_000)
    page.keyboard.press("Control+z")
    until(lambda: heroes(server), lambda h: not h)


def test_a_cloud_is_placed_and_drawn_out_by_hand(page: Page, server: Server) -> None:
    arrive(page, server, SLUG, "layer:heaps")
    page.locator("[data-place]").click()
    plate = until(page.locator("#plate").bounding_box, bool)
    x, y = plate["x"] + 0.45 * plate["width"], plate["y"] + 0.6 * plate["height"]
    page.mouse.click(x, y)
    placed = until(lambda: heroes(server), lambda h: len(h) == 1)[0]
    expect(page.locator('.row[data-path$=".width_m"]')).to_have_count(1, timeout=20_000)

    # Its mark stands under the press; its top follows the hand, its foot too.
    foot = grip(page, "foot")
    assert foot == pytest.approx((x, y), abs=3.0)
    top = grip(page, "top")
    drag(page, top, (top[0], top[1] - 70))
    taller = until(lambda: heroes(server)[0], lambda h: h["height_m"] > 1.2 * placed["height_m"])
    until(lambda: grip(page, "top")[1], lambda at: at == pytest.approx(top[1] - 70, abs=6.0))
    side = grip(page, "side")
    drag(page, side, (side[0] + 30, side[1]))
    until(lambda: heroes(server)[0], lambda h: h["width_m"] > 1.2 * taller["width_m"])
    foot = grip(page, "foot")
    drag(page, foot, (foot[0] - 60, foot[1]))
    until(lambda: heroes(server)[0]["east_m"], lambda e: e != placed["east_m"])
    until(lambda: grip(page, "foot")[0], lambda at: at == pytest.approx(foot[0] - 60, abs=4.0))

    # By keys on the mark: a copy, and away again; undo takes each back.
    page.locator(".hero-mark.chosen").focus()
    page.keyboard.press("d")
    until(lambda: heroes(server), lambda h: len(h) == 2)
    expect(page.locator(".hero-mark.chosen")).to_have_count(1, timeout=20_000)
    page.locator(".hero-mark").first.focus()
    page.keyboard.press("Delete")
    until(lambda: heroes(server), lambda h: len(h) == 1)
    page.keyboard.press("Control+z")
    until(lambda: heroes(server), lambda h: len(h) == 2)
    seed = heroes(server)[0]["seed"]
    page.locator('[data-thing$=":hero-1"]').first.click()
    page.locator('[data-hero-act="again"]').click()
    until(lambda: heroes(server)[0]["seed"], lambda s: s == seed + 1)


def test_placing_is_left_by_escape_and_done_by_enter(page: Page, server: Server) -> None:
    arrive(page, server, SLUG, "layer:heaps")
    count = len(heroes(server))
    page.locator("[data-place]").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#plate.placing")).to_have_count(1)
    page.keyboard.press("Escape")
    expect(page.locator("#plate.placing")).to_have_count(0)
    page.locator("[data-place]").focus()
    page.keyboard.press("Enter")
    expect(page.locator("#plate.placing")).to_have_count(1)
    page.keyboard.press("Enter")
    until(lambda: len(heroes(server)), lambda n: n == count + 1)


@pytest.mark.parametrize(("path", "body", "status", "part"), [
    ("heroes", {"layer": "low", "u": 0.5}, 422, "v"),
    ("heroes", {"layer": "low", "u": 0.5, "v": 1.4}, 422, "does not lie on its base"),
    ("heroes", {"layer": "high", "u": 0.5, "v": 0.3}, 422, "no single clouds"),
    ("heroes", {"layer": "gone", "u": 0.5, "v": 0.3}, 409, "no layer"),
    ("heroes/drag", {"layer": "low", "hero": "h", "what": "foot", "u": 0.5, "v": 0.3}, 409,
     "no cloud"),
    ("heroes/drag", {"layer": "low", "hero": "h", "what": "nose", "u": 0.5, "v": 0.3}, 422, "foot"),
    ("heroes/duplicate", {"layer": "low", "hero": "h"}, 409, "no cloud"),
    ("heroes/remove", {"layer": "low"}, 409, "no cloud"),
])
def test_refused_clouds_say_why(client: FlaskClient, path: str,  # noqa: F811
                                body: dict[str, Any], status: int, part: str) -> None:
    before = skies.stored("board").head_id
    answer = post(client, f"/skies/board/{path}", {"base": head(), **body})
    assert answer.status_code == status and part in answer.json["error"], answer.json
    assert skies.stored("board").head_id == before

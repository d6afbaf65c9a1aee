"""The clip in Chromium: scrubbed, keyed, keys dragged, a proof that plays, undone."""

from __future__ import annotations

import json
from typing import Any

import pytest
from flask.testing import FlaskClient
from playwright.sync_api import Page, expect

from dovrek.store import skies
from tests.chromium import Server, arrive, until
from tests.web.test_web import client, head, post  # noqa: F401  fixtures of the plain pages

SLUG = "veil"


def motion(server: Server) -> dict[str, Any]:
    found: dict[str, Any] = server.document(SLUG)["motion"]
    return found


def test_a_clip_is_scrubbed_keyed_and_played(page: Page, server: Server) -> None:
    layer = server.document(SLUG)["layers"][0]["id"]
    arrive(page, server, SLUG, f"layer:{layer}")
    page.keyboard.press("m")
    expect(page.locator("#clip")).to_be_visible()
    length = page.locator('[data-path="motion.length_s"]')
    length.fill("2")
    length.press("Enter")
    until(lambda: motion(server), lambda m: m["length_s"] == 2.0)
    fps = page.locator('[data-path="motion.fps"]')
    fps.fill("4")
    fps.press("Enter")
    until(lambda: motion(server), lambda m: m["fps"] == 4.0)

    # A key at the beginning; the marker dragged on; a change there is a second key.
    path = f"layers[{layer}].cover_oktas"
    row = page.locator(f'.row[data-path="{path}"]')
    row.locator(".key-mark").click()
    until(lambda: motion(server)["keys"], lambda keys: path in keys)
    expect(page.locator(".key")).to_have_count(1)  # its row has moved the film down
    box = until(lambda: page.locator("#film").bounding_box(), bool)
    assert box is not None
    page.mouse.move(box["x"] + 5, box["y"] + 20)
    page.mouse.down()
    page.mouse.move(box["x"] + 0.75 * box["width"], box["y"] + 20, steps=3)
    page.mouse.up()
    expect(page.locator("#film")).to_have_attribute("aria-valuenow", "1.50")
    value = row.locator(".value")
    value.fill("6.5")
    value.press("Enter")
    points = until(lambda: motion(server)["keys"][path]["points"], lambda p: len(p) == 2)
    assert points[1][:2] == [1.5, 6.5]
    expect(page.locator("#notice")).to_contain_text("keyed")
    expect(page.locator(".key")).to_have_count(2)
    assert server.document(SLUG)["layers"][0]["cover_oktas"] != 6.5  # the still stays

    # The second key is dragged in time, by hand, and in value, by keys; undo takes each back.
    key = until(lambda: page.locator(".key").nth(1).bounding_box(), bool)
    assert key is not None
    page.mouse.move(key["x"] + 5, key["y"] + 5)
    page.mouse.down()
    page.mouse.move(box["x"] + 0.5 * box["width"], key["y"] + 5, steps=3)
    page.mouse.up()
    dragged = until(lambda: motion(server)["keys"][path]["points"][1],
                    lambda p: p[0] == pytest.approx(1.0, abs=0.05))
    page.locator(".key").nth(1).focus()
    page.keyboard.press("ArrowDown")
    until(lambda: motion(server)["keys"][path]["points"][1], lambda p: p[1] < dragged[1])
    page.keyboard.press("Control+z")
    until(lambda: motion(server)["keys"][path]["points"][1], lambda p: p == dragged)

    # The proof begins with what is coarse and plays without a hand.
    page.locator("#proof-start").click()
    expect(page.locator("#proof")).to_be_visible(timeout=240_000)
    seen = [page.locator("#proof").screenshot()]
    until(lambda: page.locator("#proof").screenshot(), lambda shot: shot != seen[0], 20.0)
    page.keyboard.press("Space")
    still = page.locator("#proof").get_attribute("data-second")
    page.wait_for_timeout(400)
    assert page.locator("#proof").get_attribute("data-second") == still
    page.keyboard.press("Escape")
    expect(page.locator("#proof")).to_be_hidden()

    page.locator(".clip-switch[data-path='motion.loop']").check()
    until(lambda: motion(server), lambda m: m["loop"])
    page.keyboard.press("m")
    expect(page.locator("#ribbon")).to_be_visible()
    assert page.locator("#clip").is_hidden()


KEYED = "layers[a].cover_oktas"


@pytest.mark.parametrize(("path", "body", "part"), [
    ("key", {"at_s": 1}, "path"), ("key", {"path": "layers[a].genus", "at_s": 1}, "keyed"),
    ("key", {"path": KEYED, "at_s": 99}, "at_s"), ("key", {"path": KEYED, "at_s": 1, "value": 99},
                                                   "outside"),
    ("key", {"path": "nothing", "at_s": 1}, "nothing"),
    ("key/move", {"path": KEYED, "index": 4, "at_s": 1, "value": 2}, "not there"),
    ("key/remove", {"path": KEYED}, "index"), ("key", {"path": KEYED, "at_s": 1, "ease": "soft"},
                                               "ease"),
    ("film", {"kind": "long"}, "kind"),
])
def test_refused_keys_and_films_say_why(client: FlaskClient, path: str,  # noqa: F811
                                        body: dict[str, Any], part: str) -> None:
    answer = post(client, f"/skies/board/{path}", {"base": head(), **body})
    assert answer.status_code == 422 and part in answer.json["error"], answer.json


def test_a_proof_too_long_is_refused(client: FlaskClient) -> None:  # noqa: F811
    post(client, "/skies/board/change", {"base": head(), "values": {"motion.length_s": 600}})
    answer = post(client, "/skies/board/film", {"kind": "fine"})
    assert answer.status_code == 422 and "shorter" in answer.json["error"]
    assert json.loads(skies.raw_text("board"))["motion"]["length_s"] == 600


def test_a_change_away_from_the_clip_is_of_the_still(client: FlaskClient) -> None:  # noqa: F811
    """The same change is a key at a second of the clip, and the document's own value off it."""
    post(client, "/skies/board/key", {"base": head(), "path": KEYED, "at_s": 1, "value": 3})
    post(client, "/skies/board/change", {"base": head(), "values": {KEYED: 5}})
    assert skies.load("board")[0].layers[0].cover_oktas == 5
    said = post(client, "/skies/board/change?clip=2.5", {"base": head(), "values": {KEYED: 7}}).json
    assert "2.50 s" in said["note"]
    points = skies.load("board")[0].motion.keys[KEYED].points
    assert [(p.at_s, p.value) for p in points] == [(1.0, 3.0), (2.5, 7.0)]
    assert skies.load("board")[0].layers[0].cover_oktas == 5

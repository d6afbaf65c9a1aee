"""Places on the plan, in Chromium: a bank dragged, turned and drawn out, the camera set down, a
height map taken in, a photograph behind; and what their routes refuse."""

from __future__ import annotations

import io
import math
import re
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from PIL import Image
from playwright.sync_api import Page, expect

from dovrek.core.photo.likeness import horizon_of
from dovrek.sky.changes import with_values
from dovrek.sky.document import Camera
from dovrek.sky.wash import Wash
from dovrek.store import skies as store
from dovrek.store import versions
from tests.chromium import PATIENCE, Server, arrive, drag, mean_colour, middle_of, until
from tests.web.test_judging import client, head, token, upload  # noqa: F401  fixtures of the plain pages

BANK = "bank-over-the-island"
HILLS = "hills-in-september"


def seen(page: Page) -> None:
    """Wait until the plan is shown, if only as a sketch."""
    expect(page.locator("#quality")).to_have_text(re.compile(r" \d+ × \d+$"), timeout=PATIENCE)


def bounds(server: Server) -> dict[str, Any]:
    layers = server.document(BANK)["layers"]
    found: dict[str, Any] = next(x for x in layers if x["id"] == "bank")["bounds"]
    return found


def grip(page: Page, kind: str) -> tuple[float, float]:
    return middle_of(page.locator(f'.footprint[data-thing="layer:bank"] [data-grip="{kind}"]'))


def test_a_bank_is_placed_by_hand_on_the_plan(page: Page, server: Server) -> None:
    arrive(page, server, BANK, "layer:bank")
    page.locator('button[data-view="plan"]').click()
    expect(page.locator('.footprint[data-thing="layer:bank"]')).to_have_count(1, timeout=20_000)
    expect(page.locator(".contour").first).to_have_count(1)
    seen(page)
    start = bounds(server)
    plate = until(page.locator("#plate").bounding_box, bool)
    km = 40.0 / plate["width"]
    x, y = grip(page, "move")
    drag(page, (x, y), (x + 3.0 / km, y + 2.0 / km))
    until(lambda: bounds(server), lambda b: (b["east_km"], b["north_km"]) == pytest.approx(
        (start["east_km"] + 3.0, start["north_km"] - 2.0), abs=0.3))
    seen(page)
    x, y = grip(page, "move")
    drag(page, grip(page, "end"), (x, y - 4.0 / km))  # northward, four kilometres from the middle
    turned = until(lambda: bounds(server), lambda b: b["bearing_deg"] != start["bearing_deg"]
                   and b["length_km"] == pytest.approx(8.0, abs=0.5))
    assert min(turned["bearing_deg"], 180.0 - turned["bearing_deg"]) < 6.0

    # By keys: moved by half a kilometre, turned by five degrees; undo takes it back.
    at = page.locator('.footprint[data-thing="layer:bank"]')
    at.focus()
    page.keyboard.press("ArrowLeft")
    until(lambda: bounds(server)["east_km"],
          lambda e: e == pytest.approx(turned["east_km"] - 0.5, abs=0.06))
    page.keyboard.press("Control+z")
    until(lambda: bounds(server)["east_km"], lambda e: e == turned["east_km"])


STORM = "storm-from-orbit"


def storm(server: Server) -> dict[str, Any]:
    found: dict[str, Any] = server.document(STORM)["layers"][0]["cyclone"]
    return found


@pytest.mark.long
def test_a_turning_storm_is_drawn_out_on_a_wide_plan(page: Page, server: Server) -> None:
    """Moved by its middle, its radius drawn out; the section marks the eye in orbit,
    and the place says that the ground is water."""
    arrive(page, server, STORM, "site")
    expect(page.locator("#section .eye")).to_have_count(1)
    expect(page.locator("#section")).to_contain_text("400 km")
    expect(page.locator('[data-path="ground.kind"]')).to_have_count(1)
    expect(page.locator('[data-path="ground.waves"]')).to_have_count(1)
    expect(page.locator('[data-path="ground.land_share"]')).to_have_count(0)
    page.locator('button[data-view="plan"]').click()
    page.locator("#extent").select_option("3000")
    at = page.locator('.footprint[data-thing="layer:storm"]')
    expect(at).to_have_count(1, timeout=20_000)
    seen(page)
    start = storm(server)
    plate = until(page.locator("#plate").bounding_box, bool)
    km = 3000.0 / plate["width"]

    def held(kind: str) -> tuple[float, float]:
        return middle_of(page.locator(
            f'.footprint[data-thing="layer:storm"] [data-grip="{kind}"]'))

    x, y = held("move")
    drag(page, (x, y), (x + 300.0 / km, y + 150.0 / km))
    moved = until(lambda: storm(server),  # the hand passes many places on its way
                  lambda s: abs(s["east_km"] - start["east_km"] - 300.0) < 30.0)
    assert moved["north_km"] == pytest.approx(start["north_km"] - 150.0, abs=30.0)
    seen(page)
    x, y = held("move")
    drag(page, held("end"), (x + 700.0 / km, y))
    wide = until(lambda: storm(server), lambda s: abs(s["radius_km"] - 700.0) < 30.0)
    assert wide["wall_km"] == start["wall_km"]


def test_the_camera_is_set_down_on_the_plan(page: Page, server: Server) -> None:
    arrive(page, server, HILLS)
    page.locator('button[data-view="plan"]').click()
    expect(page.locator('.footprint[data-thing="site"]')).to_have_count(1, timeout=20_000)
    seen(page)
    box = until(page.locator("#plate").bounding_box, bool)
    page.mouse.dblclick(box["x"] + 0.3 * box["width"], box["y"] + 0.8 * box["height"])
    camera = until(lambda: server.document(HILLS)["camera"], lambda c: c["east_m"] != 0.0)
    assert camera["east_m"] == pytest.approx(-8000.0, abs=300.0)
    wide, high = box["width"], box["height"]
    assert camera["north_m"] == pytest.approx(-0.3 * 40_000.0 * high / wide, abs=300.0)

    # On the globe a place lies farther along the ground than it looks.
    page.locator("#extent").select_option("200000")
    expect(page.locator("#overlay .graticule")).to_have_count(1, timeout=20_000)
    seen(page)
    page.mouse.dblclick(box["x"] + 0.6 * box["width"], box["y"] + 0.5 * box["height"])
    far = until(lambda: server.document(HILLS)["camera"]["east_m"], lambda e: e > 0.0)
    radius, shown = 6.371e6, 2.0 * 6.371e6 * 1.04 * wide / high
    assert far - camera["east_m"] == pytest.approx(radius * math.asin(0.1 * shown / radius),
                                                   rel=0.01)


def hill(kind: str = "png") -> bytes:
    rows, columns = np.mgrid[0:80, 0:80] / 79.0
    values = np.exp(-((rows - 0.5) ** 2 + (columns - 0.5) ** 2) / 0.03)
    file = io.BytesIO()
    Image.fromarray(np.round(65535 * values).astype(np.uint16)).save(file, kind)
    return file.getvalue()


def test_a_height_map_is_chosen_in_the_schedule(page: Page, server: Server, tmp_path: Path
                                                ) -> None:
    (tmp_path / "hill.png").write_bytes(hill())
    arrive(page, server, HILLS, "site")
    page.locator('[data-path="relief.asset"] .map-file').set_input_files(tmp_path / "hill.png")
    relief = until(lambda: server.document(HILLS)["relief"], lambda r: r["form"] == "map")
    assert relief["asset"].startswith("data:image/png;base64,")
    expect(page.locator('[data-path="relief.lowest_m"]')).to_have_count(1, timeout=20_000)
    expect(page.locator('[data-path="relief.ruggedness"]')).to_have_count(0)
    (tmp_path / "air.jpg").write_bytes(hill())  # its bytes say what it is
    page.locator('[data-path="relief.picture"] .map-file').set_input_files(tmp_path / "air.jpg")
    relief = until(lambda: server.document(HILLS)["relief"], lambda r: r["picture"] != "")
    assert relief["picture"].startswith("data:image/jpeg;base64,")
    expect(page.locator('[data-unmap="relief.picture"]')).to_have_count(1, timeout=20_000)
    (tmp_path / "flat.png").write_bytes(b"nothing")
    page.locator('[data-path="relief.asset"] .map-file').set_input_files(tmp_path / "flat.png")
    expect(page.locator("#notice")).to_contain_text("cannot be read", timeout=20_000)
    assert server.document(HILLS)["relief"] == relief


def test_a_refused_height_map_leaves_the_sky(client: FlaskClient) -> None:  # noqa: F811
    base = head()
    for data, part in ((b"", "empty"), (b"x", "cannot be read")):
        answer = upload(client, "/skies/board/relief/map", "a.png", data, base=str(base))
        assert answer.status_code == 422 and part in answer.json["error"], answer.json
    answer = upload(client, "/skies/board/relief/map", "hill.png", hill(), base=str(base))
    assert answer.status_code == 200 and answer.json["revision"] > base


def test_a_photograph_is_put_behind(page: Page, server: Server, tmp_path: Path) -> None:
    """It shows, clouds stay before it, and it goes again."""
    Image.fromarray(np.full((90, 160, 3), (200, 30, 30), np.uint8)).save(tmp_path / "red.png")
    arrive(page, server, BANK, "site")
    page.locator('[data-path="behind.asset"] .map-file').set_input_files(tmp_path / "red.png")
    behind = until(lambda: server.document(BANK)["behind"], lambda b: b["asset"])
    assert behind["kind"] == "photograph" and behind["asset"].startswith("data:image/jpeg")
    until(lambda: mean_colour(page), lambda c: c[0] > 2.0 * c[2], PATIENCE / 1000)
    expect(page.locator('[data-path="behind.pitch_deg"]')).to_have_count(1, timeout=20_000)
    page.locator('[data-unmap="behind.asset"]').click()
    until(lambda: server.document(BANK)["behind"]["asset"], lambda a: a == "")
    until(lambda: mean_colour(page), lambda c: c[2] > c[0], PATIENCE / 1000)
    expect(page.locator('[data-path="behind.pitch_deg"]')).to_have_count(0, timeout=20_000)
    (tmp_path / "no.png").write_bytes(b"nothing")
    page.locator('[data-path="behind.asset"] .map-file').set_input_files(tmp_path / "no.png")
    expect(page.locator("#notice")).to_contain_text("cannot be read", timeout=20_000)


def test_a_kept_reference_stands_behind(client: FlaskClient) -> None:  # noqa: F811
    """By its lens, and tilted so that its horizon lies where it was set: the camera turned so
    would see the horizon there."""
    png = io.BytesIO()
    Image.fromarray(np.full((90, 160, 3), (40, 90, 200), np.uint8)).save(png, "PNG")
    kept = versions.keep_reference("board", "the marsh", png.getvalue(), (160, 90), 35.0, "", 0.7)
    page = client.get("/skies/board?selected=site").get_data(as_text=True)
    base = head()
    answer = client.post("/skies/board/behind/reference", json={"base": base, "reference": kept.id},
                         headers={"X-Token": token(client)})
    assert answer.status_code == 200, answer.json
    sky = store.load("board")[0]
    assert sky.behind.lens_mm == 35.0 and sky.behind.kind == "photograph" and page
    camera = Camera(lens_mm=35.0, pitch_deg=sky.behind.pitch_deg)
    fov_v = 2.0 * math.atan(math.tan(0.5 * camera.fov_h_rad) * 90 / 160)
    assert horizon_of(camera.pitch_deg, fov_v) == pytest.approx(0.7, abs=0.005)
    heads = {"X-Token": token(client)}
    tinted = client.post("/skies/board/behind/tints", json={"base": head()}, headers=heads)
    assert tinted.status_code == 200, tinted.json
    washes = [x.wash for x in store.load("board")[0].layers if x.visible]
    assert washes and all(w.strength == 1.0 and w.body != Wash().body for w in washes)
    store.change("board", head(), "Remove", lambda sky: with_values(sky, {"behind.asset": ""}))
    bare = client.post("/skies/board/behind/tints", json={"base": head()}, headers=heads)
    assert bare.status_code == 422 and "shows none of its sky" in str(bare.json)
    gone = client.post("/skies/board/behind/reference", headers={"X-Token": token(client)},
                       json={"base": head(), "reference": 10**6})
    assert gone.status_code == 404
    odd = client.post("/skies/board/behind/reference", headers={"X-Token": token(client)},
                      json={"base": head(), "reference": "one"})
    assert odd.status_code == 422

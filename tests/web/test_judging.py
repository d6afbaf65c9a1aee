"""Strips, sheets, versions, references, recipes and handling, by request."""

from __future__ import annotations

import io
import math
import re
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from PIL import Image

from dovrek.core.air.sun_place import sun_place
from dovrek.core.geometry.lens import direction_at
from dovrek.core.picture.render import Metered
from dovrek.settings import Settings
from dovrek.sky.changes import (
    with_layer_dealt,
    with_layer_frozen,
    with_layer_removed,
    with_values,
    with_values_copied,
)
from dovrek.sky.errors import SkyError
from dovrek.sky.genera import GENUS_DEFAULTS
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import parameters_of
from dovrek.sky.recipe import (
    layer_recipes,
    with_layer_from,
)
from dovrek.sky.trials import (
    WITHOUT_STRIP,
    hours_to_try,
    range_near,
    values_to_try,
)
from dovrek.store import skies as store_skies
from dovrek.web.app import create_app
from dovrek.web.composer.handling import aimed, false_colours, reading_of, sun_moved
from dovrek.web.composer.overlay import lens_of, overlay_of, vector_of
from dovrek.web.live.live import Live
from dovrek.web.live.looks import Look
from tests.conftest import free_sun, sky_of

TWO = [{"id": "low", "genus": "cumulus"}, {"id": "high", "genus": "cirrus"}]


@pytest.fixture(scope="module")
def live() -> Iterator[Live]:
    made = Live()
    made.start()
    yield made
    made.close()


@pytest.fixture()
def client(store: Settings, live: Live) -> FlaskClient:
    app = create_app(store, live)
    store_skies.add_sky(sky_of(name="Board", layers=TWO), slug="board")
    return app.test_client()


def token(client: FlaskClient) -> str:
    found = re.search(r'data-token="([^"]+)"', client.get("/").get_data(as_text=True))
    assert found
    return found[1]


def post(client: FlaskClient, path: str, body: Any) -> Any:
    return client.post(path, json=body, headers={"X-Token": token(client)})


def upload(client: FlaskClient, path: str, name: str, data: bytes, **more: str) -> Any:
    return client.post(path, data={"picture": (io.BytesIO(data), name), **more},
                       headers={"X-Token": token(client)}, content_type="multipart/form-data")


def head() -> int:
    return store_skies.load("board")[1]


def png(size: tuple[int, int] = (64, 36), colour: tuple[int, ...] = (90, 140, 220),
        mode: str = "RGB", form: str = "PNG", **more: Any) -> bytes:
    buffer = io.BytesIO()
    Image.new(mode, size, colour if mode != "L" else colour[0]).save(buffer, form, **more)
    return buffer.getvalue()


# -- values to try ------------------------------------------------------------------------


def test_every_control_of_a_layer_has_a_strip_of_valid_values() -> None:
    sky = sky_of(layers=[{"id": genus, "genus": genus} for genus in GENUS_DEFAULTS])
    tried = 0
    for layer in sky.layers:
        for parameter in parameters_of(Layer):
            if parameter.kind in WITHOUT_STRIP or not parameter.shown_for(layer.genus):
                continue
            path = f"layers[{layer.id}].{parameter.path}"
            values = values_to_try(sky, path)
            assert len({repr(v) for _, v in values}) == len(values)
            for _, value in values[:: max(1, len(values) - 1)]:
                with_values(sky, {path: value})  # refused values would raise
            tried += 1
    assert tried > 300


def test_strips_follow_the_scale_and_the_range() -> None:
    sky = sky_of(layers=TWO)
    sizes = [v for _, v in values_to_try(sky, "layers[low].cells.size_m", 5)]
    ratios = [b / a for a, b in zip(sizes[:-1], sizes[1:], strict=True)]
    assert sizes[0] == 200 and sizes[-1] == 20_000 and max(ratios) / min(ratios) < 1.1
    haze = [v for _, v in values_to_try(sky, "air.haze", 3, 0.1, 0.3)]
    assert haze == [0.1, 0.2, 0.3]
    with pytest.raises(ValueError, match="no test strip"):
        values_to_try(sky, "site.timezone")
    cover = next(p for p in parameters_of(Layer) if p.path == "cover_oktas")
    low, high = range_near(cover, 7.9)
    assert high == 8.0 and 5.0 < low < 6.0


def test_hours_of_a_sheet_crowd_at_both_ends_of_the_day() -> None:
    hours = hours_to_try(4.0, 20.0)
    assert len(hours) == 12 and hours[0] < 4.0 and hours[-1] > 20.0
    assert hours[1] - hours[0] < 0.4 * (hours[6] - hours[5])
    assert hours_to_try(None, None)[6] == 12.0


# -- strips and sheets by request ---------------------------------------------------------


def filled(client: FlaskClient, page: str) -> list[dict[str, Any]]:
    number = page.split('data-board="')[1].split('"')[0]
    found: dict[int, dict[str, Any]] = {}
    for _ in range(60):
        have = ",".join(str(k) for k in found)
        said = client.get(f"/skies/board/boards/{number}?have={have}").get_json()
        found |= {f["index"]: f for f in said["frames"]}
        if said["done"]:
            break
    return [found[k] for k in sorted(found)]


def mean_of(frame: dict[str, Any]) -> float:
    import base64

    image = Image.open(io.BytesIO(base64.b64decode(frame["png"])))
    return float(np.asarray(image.convert("L")).mean())


def test_a_strip_is_painted_and_chosen_from(client: FlaskClient) -> None:
    said = post(client, "/skies/board/strip", {"path": "film.contrast", "count": 3})
    page = said.get_data(as_text=True)
    frames = filled(client, page)
    assert len(frames) == 3 and all(f["png"] for f in frames)
    board = page.split('data-board="')[1].split('"')[0]
    answer = post(client, f"/skies/board/boards/{board}/choose", {"base": head(), "index": 2})
    assert answer.status_code == 200
    assert store_skies.load("board")[0].film.contrast == 1.6
    assert store_skies.steps("board") == (1, 0)


def test_two_controls_make_a_grid_and_exposure_goes_about_the_metered(client: FlaskClient) -> None:
    said = post(client, "/skies/board/strip",
                {"path": "film.exposure_ev", "other": "film.contrast", "count": 4})
    assert said.get_data(as_text=True).count('role="option"') == 16
    strip = post(client, "/skies/board/strip",
                 {"path": "film.exposure_ev", "low": 12, "high": 16, "count": 5})
    bright = [mean_of(f) for f in filled(client, strip.get_data(as_text=True))]
    assert bright == sorted(bright, reverse=True) and bright[0] > 1.5 * bright[-1]


def test_refused_strips_say_why(client: FlaskClient) -> None:
    for body, part in (({"path": "name"}, "no test strip"), ({"path": "layers[gone].seed"}, "gone"),
                       ({"path": "air.haze", "count": 90}, "2 to 7"), ({}, "name the control"),
                       ({"path": "air.haze", "low": 0, "high": float("inf")}, "finite")):
        said = post(client, "/skies/board/strip", body)
        assert said.status_code == 422 and part in said.get_json()["error"]
    assert client.get("/skies/board/boards/999").status_code == 404
    assert post(client, "/skies/board/versions", ["no"]).status_code == 422
    assert Look.of("plan", float("nan")) == Look("plan") and Look.of("attic", 3.0) == Look()
    assert post(client, "/skies/board/sheet", {"kind": "moods"}).status_code == 422


def test_a_sheet_of_recipes_replaces_a_layer_in_place(client: FlaskClient) -> None:
    said = post(client, "/skies/board/sheet", {"kind": "recipes", "layer": "low"})
    page = said.get_data(as_text=True)
    board = page.split('data-board="')[1].split('"')[0]
    at = page.split('role="option"')[1:].index(
        next(x for x in page.split('role="option"')[1:] if "Afternoon towers" in x))
    post(client, f"/skies/board/boards/{board}/choose", {"base": head(), "index": at})
    layer = store_skies.load("board")[0].layers[0]
    assert layer.id == "low" and layer.species == "congestus"
    post(client, f"/skies/board/boards/{board}/drop", {})
    assert client.get(f"/skies/board/boards/{board}").status_code == 404


# -- layers in hand -----------------------------------------------------------------------


def test_a_lock_refuses_and_a_freeze_holds_the_composition() -> None:
    sky = with_values(sky_of(layers=TWO), {"layers[low].locked": True})
    for change in (lambda: with_values(sky, {"layers[low].cover_oktas": 1.0}),
                   lambda: with_layer_removed(sky, "low"),
                   lambda: with_values_copied(sky, "high", "low", ["wind"])):
        with pytest.raises(SkyError, match="locked"):
            change()
    assert not with_values(sky, {"layers[low].locked": False}).layers[0].locked
    frozen = with_layer_frozen(sky_of(seed=5, layers=TWO), "low", True)
    with pytest.raises(SkyError, match="frozen"):
        with_layer_dealt(frozen, "low")
    moved = with_values(frozen, {"seed": 77, "layers[low].cover_oktas": 1.0})
    assert moved.layers[0].frozen == 5


def test_a_frozen_layer_is_not_dealt_anew(studio: Any, cancel: Any) -> None:
    from dovrek.core.prepare.fineness import SKETCH

    frozen = with_layer_frozen(sky_of(seed=5, layers=TWO[:1]), "low", True)
    before = studio.preparer.body(frozen, frozen.layers[0], SKETCH, cancel)
    other = with_values(frozen, {"seed": 99})
    assert studio.preparer.body(other, other.layers[0], SKETCH, cancel).key == before.key
    free = with_layer_frozen(other, "low", False)
    assert studio.preparer.body(free, free.layers[0], SKETCH, cancel).key != before.key


def test_a_recipe_does_not_pass_a_lock_or_a_freeze() -> None:
    locked = with_values(sky_of(layers=TWO), {"layers[low].locked": True})
    frozen = with_layer_frozen(sky_of(layers=TWO), "low", True)
    for sky, word in ((locked, "locked"), (frozen, "frozen")):
        with pytest.raises(SkyError, match=word):
            with_layer_from(sky, "low", layer_recipes()["noon-fleet"])


def test_values_are_copied_by_parts() -> None:
    sky = sky_of(layers=[{"id": "a", "genus": "cumulus", "body": {"fray": 0.9},
                          "wind": {"from_deg": 10}}, {"id": "b", "genus": "cumulus"}])
    led = with_values_copied(sky, "a", "b", ["body"])
    assert led.layers[1].body.fray == 0.9 and led.layers[1].wind.from_deg != 10
    with pytest.raises(SkyError, match="choose from"):
        with_values_copied(sky, "a", "b", ["colour"])


def test_earlier_deals_are_listed_and_taken_back(client: FlaskClient) -> None:
    first = store_skies.load("board")[0].layers[0].seed
    for _ in range(2):
        assert post(client, "/skies/board/layers/low/deal", {"base": head()}).status_code == 200
    seeds = client.get("/skies/board/layers/low/seeds").get_json()["seeds"]
    assert seeds == [first + 2, first + 1, first]
    post(client, "/skies/board/layers/low/deal", {"base": head(), "seed": first})
    assert store_skies.load("board")[0].layers[0].seed == first


def test_alone_shows_one_layer_and_leaves_the_sky() -> None:
    sky = sky_of(layers=TWO)
    seen = Look("picture", 40.0, "high").seen(sky)
    assert [x.visible for x in seen.layers] == [False, True] and sky.layers[0].visible
    assert Look("picture", 40.0, "gone").seen(sky) is sky


# -- direct handling ----------------------------------------------------------------------


def test_the_sun_slides_along_its_path_to_the_nearest_hour() -> None:
    sky = sky_of(moment="2026-06-21T12:00", camera={"heading_deg": 270, "pitch_deg": 20})
    target = sun_place(with_values(sky, {"moment": "2026-06-21T18:30"}))
    lens = lens_of(sky, Look())
    from dovrek.core.geometry.lens import place_of

    place = place_of(lens, vector_of(target.elevation, target.azimuth))
    assert place is not None
    moved = sun_moved(sky, Look(), *place)
    minutes = abs((moved.local_moment() - with_values(
        sky, {"moment": "2026-06-21T18:30"}).local_moment()).total_seconds()) / 60
    assert minutes <= 5 and moved.sun.mode == "clock"


def test_a_free_sun_goes_where_it_is_put() -> None:
    sky = free_sun(30.0, camera={"heading_deg": 180, "pitch_deg": 20})
    for look in (Look(), Look("dome")):
        moved = sun_moved(sky, look, 0.4, 0.3)
        ray = direction_at(lens_of(sky, look), 0.4, 0.3)
        assert moved.sun.elevation_deg == pytest.approx(math.degrees(math.asin(ray[2])), abs=0.1)
    plan = sun_moved(sky, Look("plan"), 0.9, 0.5)
    assert plan.sun.azimuth_deg == 90.0 and plan.sun.elevation_deg == 30.0


def test_aiming_keeps_what_was_grabbed_under_the_hand() -> None:
    sky = sky_of(camera={"heading_deg": 350, "pitch_deg": 10, "lens_mm": 35})
    grabbed = direction_at(lens_of(sky, Look()), 0.3, 0.5)
    turned = aimed(sky, (0.3, 0.5), (0.6, 0.7), 350.0, 10.0)
    there = direction_at(lens_of(turned, Look()), 0.6, 0.7)
    assert math.degrees(math.acos(min(float(grabbed @ there), 1.0))) < 2.5
    assert 300 < turned.camera.heading_deg < 350 and turned.camera.pitch_deg > 10


def test_overlay_draws_what_the_view_has() -> None:
    sky = sky_of(moment="2026-06-21T20:30", camera={"heading_deg": 300}, layers=TWO)
    picture, dome, plan = (overlay_of(sky, Look(v)) for v in ("picture", "dome", "plan"))
    assert picture.horizon and picture.sun and not picture.arrows
    x, y = picture.sun
    ray = direction_at(lens_of(sky, Look()), x / 1000, y / picture.height)
    assert float(ray @ np.array(sun_place(sky).vector)) > 0.99999
    assert any(kind == "frame" for kind, _ in dome.lines)
    assert [a.layer_id for a in plan.arrows] == ["low", "high"] and plan.scale
    assert plan.scale[1] == pytest.approx(1000 * 10 / 40)


def test_reading_tells_light_and_cloud() -> None:
    sky = sky_of(layers=TWO, camera={"pitch_deg": 14})
    light = np.zeros((36, 64, 5), dtype=np.float32)
    light[..., 1] = 8.0  # cd/m²: 2^6 · 0.125, middle grey at EV 6
    light[10, 32, 4] = 3000.0
    read = reading_of(sky, Look(), light, 6.0, 0.51, 10.5 / 36)
    assert read["stops"] == 0.0 and read["layer"] == "low" and 900 < read["altitude_m"] < 2500
    assert reading_of(sky, Look(), light, 7.0, 0.5, 0.05)["stops"] == -1.0
    assert reading_of(sky, Look(), light, 7.0, 0.5, 0.99)["what"] == "ground"
    ramp = false_colours(light * np.float32(1.0), Metered(6.0, 5600.0))
    assert len(np.unique(ramp.reshape(-1, 3), axis=0)) == 1
    burnt = false_colours(light * np.float32(64.0), Metered(6.0, 5600.0))
    assert (burnt[0, 0] == (170, 58, 24)).all()

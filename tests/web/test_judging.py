"""Strips, sheets, versions, references, recipes and handling, by request."""

from __future__ import annotations

import io
import json
import math
import re
import time
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from flask.testing import FlaskClient
from PIL import Image

from dovrek.core.air.sun_place import sun_place
from dovrek.core.geometry.lens import direction_at
from dovrek.core.photo.likeness import RATIO, horizon_of, likeness_of, mask_overlay
from dovrek.core.picture.render import Metered
from dovrek.settings import Settings
from dovrek.sky.advisories import Seen, advisories
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
    recipe_from_data,
    starters,
    with_layer_from,
    with_recipe,
)
from dovrek.sky.trials import (
    WITHOUT_STRIP,
    hours_to_try,
    range_near,
    values_to_try,
)
from dovrek.store import skies as store_skies
from dovrek.store.versions import reference
from dovrek.web.app import create_app
from dovrek.web.composer.handling import aimed, false_colours, reading_of, sun_moved
from dovrek.web.composer.overlay import lens_of, overlay_of, vector_of
from dovrek.web.composer.schedule import sheet_of
from dovrek.web.live.live import Live
from dovrek.web.live.looks import Look
from dovrek.web.shared.photographs import reference_cover
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


# -- versions and references --------------------------------------------------------------


def test_a_version_is_kept_taken_and_undone(client: FlaskClient) -> None:
    said = post(client, "/skies/board/versions", {"name": "Before lunch"}).get_json()
    post(client, "/skies/board/change", {"base": head(), "values": {"air.haze": 0.9}})
    post(client, f"/skies/board/versions/{said['id']}/take", {"base": head()})
    assert store_skies.load("board")[0].air.haze == 0.1
    post(client, "/skies/board/undo", {"base": head()})
    assert store_skies.load("board")[0].air.haze == 0.9
    assert post(client, "/skies/board/versions", {"name": "  "}).status_code == 422
    page = client.get("/skies/board/compare").get_data(as_text=True)
    assert "Before lunch" in page
    assert client.get("/skies/board/compare?second=version-99").status_code == 404


def jpeg_turned() -> bytes:
    image = Image.new("RGB", (80, 40), (80, 120, 200))
    exif = Image.Exif()
    exif[0x0112] = 6  # EXIF 2.3: row 0 is the right side
    buffer = io.BytesIO()
    image.save(buffer, "JPEG", exif=exif)
    return buffer.getvalue()


def tiff(values: np.ndarray) -> bytes:
    import tifffile

    buffer = io.BytesIO()
    tifffile.imwrite(buffer, values)
    return buffer.getvalue()


@pytest.mark.parametrize("name, data, size", [
    ("a.png", png(), (64, 36)),
    ("turned.jpg", jpeg_turned(), (40, 80)),
    ("grey.png", png(mode="L"), (64, 36)),
    ("inks.jpg", png((64, 36), (120, 40, 10, 0), "CMYK", "JPEG"), (64, 36)),
    ("deep.tif", tiff(np.full((36, 64, 3), 30_000, np.uint16)), (64, 36)),
    ("float.tif", tiff(np.linspace(0, 4, 36 * 64 * 3, dtype=np.float32).reshape(36, 64, 3)),
     (64, 36)),
])
def test_references_of_every_kind(client: FlaskClient, name: str, data: bytes,
                                  size: tuple[int, int]) -> None:
    assert upload(client, "/skies/board/references", name, data).status_code == 302
    image = Image.open(io.BytesIO(client.get("/skies/board/references/1.png").data))
    assert image.size == size and image.mode == "RGB"


def huge_png() -> bytes:
    import struct
    import zlib

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(
            ">I", zlib.crc32(kind + data))

    rows = zlib.compress(bytes(1000))
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", struct.pack(
        ">IIBBBBB", 20_000, 20_000, 8, 2, 0, 0, 0)) + chunk(b"IDAT", rows) + chunk(b"IEND", b"")


@pytest.mark.parametrize("name, data, part", [
    ("words.jpg", b"no picture at all", "cannot be read"),
    ("none.png", b"", "empty"),
    ("huge.png", huge_png(), "20,000 × 20,000"),
    ("cut.jpg", jpeg_turned()[:200], "cannot be read"),
    ("odd.exr", b"\x76\x2f\x31\x01broken", "cannot be read"),
    ("odd.hdr", b"#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 9 -X 9\n", "upright"),
])
def test_what_is_no_reference_is_refused_in_words(client: FlaskClient, name: str, data: bytes,
                                                  part: str) -> None:
    said = upload(client, "/skies/board/references", name, data)
    assert said.status_code == 422 and part in said.get_json()["error"]
    assert name in said.get_json()["error"]


def test_linear_references_are_read_as_written(tmp_path: Any) -> None:
    """Our own writers, which independent readers check elsewhere, against this reader."""
    from dovrek.formats.kinds.format import Developing
    from dovrek.formats.pictures import write_picture
    from dovrek.formats.references import read_reference

    light = np.ones((24, 40, 5), dtype=np.float32) * 800.0
    light[:, 20:] *= 4.0
    for name in ("a.hdr", "a.exr"):
        write_picture(tmp_path / name, light, Developing(12.0, 5600.0))
        found = read_reference((tmp_path / name).read_bytes()).pixels
        assert found.shape == (24, 40, 3) and found[0, -1].mean() > found[0, 0].mean() + 40


def test_the_newest_photograph_gives_the_cover_to_reach(client: FlaskClient) -> None:
    assert reference_cover("board") is None
    upload(client, "/skies/board/references", "blue.png", png())
    assert reference_cover("board")[0] == 0.0
    upload(client, "/skies/board/references", "grey.png", png(colour=(150, 150, 150)))
    assert reference_cover("board") == (8.0, RATIO)
    sent = {"token": token(client), "ratio": "1.2"}
    client.post("/skies/board/references/2/frame", data=sent)
    assert reference_cover("board")[0] == 0.0


def test_a_photograph_comes_with_its_horizon_line(client: FlaskClient) -> None:
    """Sky over land: the line lies where they meet; without land at the lower edge; both say so."""
    pixels = np.zeros((90, 160, 3), dtype=np.uint8)
    pixels[:60], pixels[60:] = (90, 130, 200), (70, 66, 50)
    for number, (picture, line, said) in enumerate((
            (pixels, 60 / 90, "where land seems to begin"), (pixels[:50], 1.0, "No land")), 1):
        buffer = io.BytesIO()
        Image.fromarray(picture).save(buffer, "PNG")
        upload(client, "/skies/board/references", "meadow.png", buffer.getvalue())
        row = reference("board", number)
        assert row.horizon == pytest.approx(line, abs=0.01) and said in row.note


def test_framing_is_checked_and_kept(client: FlaskClient) -> None:
    upload(client, "/skies/board/references", "a.png", png())
    sent = {"token": token(client), "lens_mm": "35", "horizon": "0.8", "ratio": "0.7"}
    assert client.post("/skies/board/references/1/frame", data=sent).status_code == 302
    page = client.get("/skies/board/compare?first=present&second=reference-1")
    assert 'value="0.8"' in page.get_data(as_text=True)
    said = client.post("/skies/board/references/1/frame", data=sent | {"lens_mm": "4000"})
    assert said.status_code == 422 and "lens_mm" in said.get_data(as_text=True)


@pytest.mark.parametrize(("given", "part"), [
    ("0.5,0.6", "2 heights were given; give 64"), (",".join(["2"] * 64), "shares of the picture"),
    (",".join(["nan"] * 64), "shares of the picture"), ("high", "numbers with a comma"),
    (",".join(["0.5"] * 65), "65 heights")])
def test_a_skyline_is_checked(client: FlaskClient, given: str, part: str) -> None:
    upload(client, "/skies/board/references", "a.png", png())
    said = client.post("/skies/board/references/1/frame",
                       data={"token": token(client), "skyline": given})
    assert said.status_code == 422 and part in said.get_data(as_text=True)
    assert reference("board", 1).skyline == ""


def test_a_traced_skyline_is_kept_and_left_out(client: FlaskClient) -> None:
    """A white wall over the right half of a blue sky is cloud until it is traced, in the measures,
    the mask and the cover to reach; one at the foot of the picture is none."""
    pixels = np.zeros((90, 160, 3), dtype=np.uint8)
    pixels[:], pixels[30:, 80:] = (70, 120, 210), (200, 200, 200)
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG")
    upload(client, "/skies/board/references", "wall.png", buffer.getvalue())
    send = {"token": token(client), "horizon": "1"}
    client.post("/skies/board/references/1/frame", data=send)
    told = reference_cover("board")
    assert told is not None and told.oktas == pytest.approx(8.0 / 3.0, abs=0.1)
    trace = ",".join(["1"] * 32 + ["0.3"] * 32)
    client.post("/skies/board/references/1/frame", data=send | {"skyline": trace})
    told = reference_cover("board")
    assert told is not None and told.oktas == 0.0
    text = client.get("/skies/board/compare/measures?first=reference-1&second=").get_data(
        as_text=True)
    assert "0.0 oktas" in text and re.findall(r'data-measure="hidden">(\d+) %', text) == ["35"]
    masked = np.asarray(Image.open(io.BytesIO(client.get(
        "/skies/board/compare/picture.png?key=reference-1&mask=1").data)).convert("RGB"))
    assert (masked[40:80, 120] == 40).all(axis=1).any() and (masked[40:80, 40] == (
        70, 120, 210)).all()
    client.post("/skies/board/references/1/frame", data=send | {
        "skyline": ",".join(["1"] * 64)})
    assert reference("board", 1).skyline == ""


def test_a_tree_before_the_sky_is_left_out_and_shown(client: FlaskClient) -> None:
    """Compare counts no cloud in it, says how much was left out, and draws level lines over it."""
    pixels = np.zeros((180, 320, 3), dtype=np.uint8)
    pixels[:] = (70, 120, 210)
    leaves = np.random.default_rng(5).integers(40, 140, (120, 80))
    pixels[60:, 120:200] = np.stack([0.8 * leaves, leaves, 0.4 * leaves], axis=-1)
    buffer = io.BytesIO()
    Image.fromarray(pixels).save(buffer, "PNG")
    upload(client, "/skies/board/references", "tree.png", buffer.getvalue())
    row = reference("board", 1)
    client.post("/skies/board/references/1/frame", data={
        "token": token(client), "lens_mm": row.lens_mm, "horizon": "1", "ratio": row.ratio})
    said = client.get("/skies/board/compare/measures?first=reference-1&second=")
    text = said.get_data(as_text=True)
    assert "0.0 oktas" in text
    left_out = re.findall(r'data-measure="hidden">(\d+) %', text)
    assert len(left_out) == 1 and 15 <= int(left_out[0]) <= 28
    shown = np.asarray(Image.open(io.BytesIO(client.get(
        "/skies/board/compare/picture.png?key=reference-1&mask=1").data)).convert("RGB"))
    scale = shown.shape[1] / 320
    column = shown[int(70 * scale):int(170 * scale), int(160 * scale)]
    lines = (column == (40, 40, 40)).all(axis=1)
    assert 0.3 < lines.mean() < 0.5
    assert not (shown[: int(40 * scale), : int(100 * scale)] == (40, 40, 40)).all(axis=2).any()


def test_measures_of_known_pictures() -> None:
    pixels = np.zeros((90, 160, 3), dtype=np.uint8)
    pixels[:] = (60, 110, 200)
    pixels[20:40] = (220, 222, 226)  # a band of cloud: 20 of 60 rows of sky
    pixels[60:] = (90, 80, 60)
    found = likeness_of(pixels, horizon=60 / 90)
    assert found.cover_oktas == pytest.approx(8 / 3, abs=0.01)
    assert found.zenith == "#3c6ec8" and found.contrast and found.contrast > 3.0
    assert sum(found.histogram) == pytest.approx(1.0)
    shown = mask_overlay(pixels, 60 / 90, 0.6)
    assert (shown[25] == (138, 47, 18)).all(axis=1).mean() == pytest.approx(1 / 3, abs=0.05)
    assert likeness_of(pixels, 60 / 90, ratio=1.2).cover_oktas == 0.0
    assert horizon_of(0.0, 0.8) == 0.5 and horizon_of(20.0, 0.8) > 0.9


# -- recipes ------------------------------------------------------------------------------


def test_shipped_recipes_hold_every_genus_and_twelve_starters() -> None:
    assert {g for r in layer_recipes().values() for g in r.genera} == set(GENUS_DEFAULTS)
    assert len(starters()) == 15 and all(r.notes for r in starters().values())


def test_a_recipe_goes_in_and_out_unchanged(client: FlaskClient) -> None:
    saved = post(client, "/skies/board/recipes",
                 {"layer": "low", "name": "My heaps", "notes": "for the pond"}).get_json()
    text = client.get(f"/recipes/{saved['key']}.json").data
    again = recipe_from_data(json.loads(text))
    base = store_skies.load("board")[0]
    led, new = with_recipe(base, again, 2000.0)
    original, copied = base.layers[0], led.layers[-1]
    assert new == copied.id and copied.base_m == 2000.0 and copied.name == "My heaps"
    same = {"id", "name", "base_m"}
    assert original.model_dump(exclude=same) == copied.model_dump(exclude=same)
    said = post(client, f"/skies/board/recipes/{saved['key']}/insert",
                {"base": head(), "base_m": 900})
    assert said.get_json()["selected"] and len(store_skies.load("board")[0].layers) == 3
    found = client.get("/recipes?words=pond").get_data(as_text=True)
    assert "My heaps" in found and "Pasture heaps" not in found
    assert "Mackerel rows" in client.get("/recipes?genus=altocumulus").get_data(as_text=True)


@pytest.mark.parametrize("data, part", [
    (b'{"dovrek_recipe": 2, "name": "x", "layer": {"genus": "cumulus"}}', "newer format"),
    (b'{"dovrek_recipe": 1, "name": "x", "layer": {"genus": "cumulus", "base_m": -4}}',
     "layer.base_m"),
    (b'{"dovrek_recipe": 1, "name": "x"}', "one of"),
    (b'{"name": "x"}', "not a recipe"), (b"[", "JSON"),
    (b'{"dovrek_recipe": 1, "name": "", "layer": {"genus": "cumulus"}}', "name"),
])
def test_bad_recipes_are_refused_in_words(client: FlaskClient, data: bytes, part: str) -> None:
    said = client.post("/recipes/import", data={
        "token": token(client), "file": (io.BytesIO(data), "r.json")},
        content_type="multipart/form-data")
    assert said.status_code == 422 and part in said.get_data(as_text=True)


# -- advisories ---------------------------------------------------------------------------


def test_every_mend_takes_its_advisory_away() -> None:
    sky = sky_of(site={"elevation_m": 0}, camera={"altitude_m": 1500},
                 film={"exposure_ev": 14}, sun={"mode": "free", "elevation_deg": -5},
                 layers=[{"id": "a", "genus": "cumulus", "base_m": 1200},
                         {"id": "b", "genus": "cirrus", "base_m": 900},
                         {"id": "c", "genus": "stratus", "base_m": 1900, "thickness_m": 600},
                         {"id": "d", "genus": "cumulonimbus", "thickness_m": 15_000,
                          "base_m": 9000},
                         {"id": "e", "genus": "altocumulus", "map": {"asset": "gone.png"}}])
    seen = Seen(burnt=0.2, held_ev=14.63, lids={"d": 0.3}, cover=1.0, reference_cover=6.0)
    codes = {a.code for a in advisories(sky, -5.0, seen=seen)}
    assert {"day exposure", "camera in cloud", "étage", "lid", "air top", "hidden", "map missing",
            "cover apart"} <= codes
    assert "burnt" in {a.code for a in advisories(sky, 20.0, seen=seen)}
    small = sky_of(air={"planet_radius_km": 100}, camera={"altitude_m": 3e5})
    thin = sky_of(air={"depth": 0.3}, layers=[{"genus": "cirrus", "id": "a"}])
    told = {a.code: a for s in (small, thin) for a in advisories(s, 30.0)}
    assert told["deep air"].values == {"air.depth": 0.2}
    assert 0.3 < told["thin air"].values["air.depth"] <= 0.6
    for advisory in advisories(sky, -5.0):
        if not advisory.values:
            continue
        mended = with_values(sky, advisory.values)
        assert advisory.text not in [a.text for a in advisories(mended, -5.0)]


# -- schedule and looks -------------------------------------------------------------------


def test_heights_are_shown_in_feet_on_request() -> None:
    sky = sky_of(layers=TWO)
    rows = {r.parameter.path: r for _, group in sheet_of(sky, "layer:low", {}, "feet").groups
            for r in group}
    assert rows["base_m"].unit == "ft" and rows["base_m"].text == "3609"
    assert rows["base_m"].default_value == "1100" and rows["cover_oktas"].factor == 1.0


def test_guide_names_every_control(client: FlaskClient) -> None:
    page = client.get("/guide").get_data(as_text=True)
    for parameter in parameters_of(Layer):
        assert parameter.help[:40].replace("'", "&#39;") in page
    assert client.get("/recipes/scattered/picture").mimetype == "image/jpeg"


def test_camera_comes_from_a_sidecar(client: FlaskClient) -> None:
    side = json.dumps({"sky": {"camera": {"lens_mm": 50, "heading_deg": 12, "note": 1}}}).encode()
    sent = {"base": str(head()), "file": (io.BytesIO(side), "print.json")}
    said = client.post("/skies/board/camera", data=sent, headers={"X-Token": token(client)},
                       content_type="multipart/form-data")
    assert said.status_code == 200
    camera = store_skies.load("board")[0].camera
    assert (camera.lens_mm, camera.heading_deg) == (50, 12)
    for data, part in ((b"{}", "lens_mm"), (b"nothing", "not JSON"),
                       (b'{"camera": {"lens_mm": 9000}}', "camera.lens_mm")):
        sent = {"base": str(head()), "file": (io.BytesIO(data), "c.json")}
        said = client.post("/skies/board/camera", data=sent, headers={"X-Token": token(client)},
                           content_type="multipart/form-data")
        assert said.status_code == 422 and part in said.get_json()["error"]


def test_fifty_steps_back_and_forth_end_in_the_same_document(client: FlaskClient) -> None:
    for k in range(50):
        post(client, "/skies/board/change",
             {"base": head(), "values": {"camera.heading_deg": float(k + 1)}})
    text = client.get("/skies/board/export.json").data
    for _ in range(50):
        post(client, "/skies/board/undo", {"base": head()})
    assert store_skies.load("board")[0].camera.heading_deg == 0.0
    for _ in range(50):
        post(client, "/skies/board/redo", {"base": head()})
    assert client.get("/skies/board/export.json").data == text


def test_reading_waits_for_a_picture(client: FlaskClient, live: Live) -> None:
    live.show("board", *store_skies.load("board"))
    for _ in range(600):
        said = client.get("/skies/board/reading?u=0.5&v=0.2")
        if said.status_code == 200:
            break
        time.sleep(0.1)
    assert said.get_json()["luminance_cd_m2"] > 100
    assert client.get("/skies/board/exposure.png").mimetype == "image/png"
    assert client.get("/skies/board/reading?u=4&v=0.2").status_code == 422

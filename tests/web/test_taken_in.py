"""What comes into a sky by request: recipes, mends of advisories, cameras, steps back and forth."""

from __future__ import annotations

import io
import json
import time

import pytest
from flask.testing import FlaskClient

from dovrek.sky.advisories import Seen, advisories
from dovrek.sky.changes import with_values
from dovrek.sky.genera import GENUS_DEFAULTS
from dovrek.sky.layer import Layer
from dovrek.sky.parameter import parameters_of
from dovrek.sky.recipe import layer_recipes, recipe_from_data, starters, with_recipe
from dovrek.store import skies as store_skies
from dovrek.web.composer.schedule import sheet_of
from dovrek.web.live.live import Live
from tests.conftest import sky_of
from tests.web.test_judging import TWO, client, head, live, png, post, token  # noqa: F401

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
    rows = {r.parameter.path: r for group in sheet_of(sky, "layer:low", {}, "feet").groups
            for r in group.rows}
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

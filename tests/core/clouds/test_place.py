"""Clouds that keep to a place: fog by its sight, banks, layers that follow hills."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.clouds.bank import BEYOND
from dovrek.core.clouds.density import density
from dovrek.core.clouds.drape import lift
from dovrek.core.clouds.measure import EYE_DEPTH
from dovrek.core.compile.kernels import kernel
from dovrek.core.land.forms import heights_of, shape_of
from dovrek.core.land.meeting import height_at, land_record
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.workers import Cancel
from dovrek.sky.advisories import advisories
from dovrek.sky.document import Sky
from dovrek.sky.reading import sky_to_text
from dovrek.sky.seen import fog_id, fog_layer, layers_of
from tests.conftest import sky_of

HILLS = {"form": "hills", "extent_km": 14.0, "highest_m": 420.0, "north_km": 7.0}
EVEN = {"present": True, "patchiness": 0.0}


@kernel
def _dense(field, base, places, out):
    for k in range(len(places)):
        _, out[k] = density(field, 0, places[k, 0], places[k, 1], places[k, 2] - base, 0.0, 2.0)


def dense(body: Any, places: np.ndarray) -> np.ndarray:
    """Extinction of a layer at (N, 3) places, metres from the camera's foot."""
    out = np.empty(len(places))
    _dense(body.field, body.base, np.ascontiguousarray(places, dtype=float), out)
    return out


def fog_of(studio: Studio, sky: Sky) -> Any:
    fog = fog_layer(sky)
    assert fog is not None
    return studio.preparer.body(sky, fog, FINE, Cancel())


def land_at(sky: Sky, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    heights = heights_of(sky.relief)
    land = land_record(sky, len(heights) - 1, [0], 0)
    return np.array([height_at(land, heights, a, b) for a, b in zip(x, y, strict=True)])


@pytest.mark.parametrize("sight_m", [50.0, 300.0, 2000.0])
def test_a_dark_thing_at_the_sight_keeps_a_twentieth(studio: Studio, sight_m: float) -> None:
    """Koschmieder (1924; WMO-No. 8): what passes over the sight is 5 %."""
    body = fog_of(studio, sky_of(fog={**EVEN, "sight_m": sight_m, "depth_m": 60.0}))
    along = (np.arange(2000) + 0.5) / 2000 * sight_m
    places = np.stack([along * math.sin(1.0), along * math.cos(1.0), np.full(2000, 1.6)], axis=1)
    passed = math.exp(-float(dense(body, places).mean()) * sight_m)
    assert passed == pytest.approx(0.05, abs=0.002)


def test_ground_fog_lies_on_the_land(studio: Studio) -> None:
    sky = sky_of(fog={**EVEN, "depth_m": 30.0}, relief=HILLS)
    rng = np.random.default_rng(1)
    x, y = rng.uniform(-7e3, 7e3, 400), rng.uniform(0.0, 14e3, 400)
    stands = land_at(sky, x, y)
    assert stands.max() > 200.0
    body = fog_of(studio, sky)
    assert (dense(body, np.stack([x, y, stands + 1.0], axis=1)) > 0.0).all()
    assert (dense(body, np.stack([x, y, stands + 30.5], axis=1)) == 0.0).all()


@pytest.mark.parametrize("patchiness", [0.0, 0.8])
def test_a_level_fog_has_nothing_above_its_level(studio: Studio, patchiness: float) -> None:
    """On every slope: cloud below the level, none above it."""
    sky = sky_of(fog={"present": True, "lies": "level", "level_m": 104.0, "patchiness": patchiness},
                 relief=HILLS, site={"elevation_m": 4.0})
    rng = np.random.default_rng(2)
    x, y = rng.uniform(-7e3, 7e3, 600), rng.uniform(0.0, 14e3, 600)
    body = fog_of(studio, sky)
    above = np.stack([x, y, rng.uniform(100.0, 400.0, 600)], axis=1)
    assert (dense(body, above) == 0.0).all()
    stands = land_at(sky, x, y)
    low = stands < 30.0
    assert low.sum() > 50
    assert (dense(body, np.stack([x, y, stands + 2.0], axis=1)[low]) > 0.0).mean() > (
        0.99 if patchiness == 0.0 else 0.5)


def test_fog_is_a_layer_beside_a_whole_sky_of_sixteen() -> None:
    sky = sky_of(fog=EVEN, layers=[{"id": f"l{k}" if k else "fog"} for k in range(16)])
    shown = layers_of(sky)
    assert len(shown) == 17 and shown[-1].id == fog_id(sky) == "fog-"
    assert "fog-" not in sky_to_text(sky)  # it is no layer of the document


def test_what_has_no_place_is_told() -> None:
    sky = sky_of(site={"elevation_m": 200.0}, fog={"present": True, "lies": "level"},
                 layers=[{"id": "a", "genus": "stratus", "drape": {"amount": 0.5}}],
                 relief={"form": "map", "asset": "hills.png"})
    assert fog_layer(sky) is None
    codes = {a.code for a in advisories(sky, 40.0)}
    assert {"fog below the ground", "nothing to follow", "height map missing"} <= codes


BOUNDS = {"length_km": 12.0, "width_km": 6.0, "bearing_deg": 30.0, "east_km": 2.0, "north_km": 5.0,
          "edge": 0.5}


def columns(body: Any, x: np.ndarray, y: np.ndarray) -> np.ndarray:
    """Vertical optical depth at places."""
    low, high = float(body.record["lowest"]), float(body.record["highest"])
    z = body.base + low + (np.arange(200) + 0.5) / 200 * (high - low)
    found = [dense(body, np.stack([np.full(200, a), np.full(200, b), z], axis=1)).sum()
             for a, b in zip(x, y, strict=True)]
    return np.array(found) * (high - low) / 200


@pytest.mark.parametrize("shape", ["ellipse", "box"])
@pytest.mark.parametrize("genus", ["stratus", "stratocumulus", "cumulus", "cirrostratus"])
def test_a_bank_closes_softly_and_ends(studio: Studio, genus: str, shape: str) -> None:
    """Mean depth on its rings by the way from the middle: whole inside, less toward the border,
    nothing beyond the soft end."""
    sky = sky_of(layers=[{"id": "a", "genus": genus, "cover_oktas": 8.0,
                          "bounds": {**BOUNDS, "shape": shape}}])
    body = studio.preparer.body(sky, sky.layers[0], FINE, Cancel())
    turn, round_ = math.radians(30.0), 2.0 * math.pi * (np.arange(24) + 0.5) / 24

    def ring(way: float) -> float:
        power = 1.0 if shape == "ellipse" else 0.5
        c, s = np.cos(round_), np.sin(round_)
        a = way * 6e3 * np.sign(c) * np.abs(c) ** power
        b = way * 3e3 * np.sign(s) * np.abs(s) ** power
        x = 2e3 + a * math.sin(turn) + b * math.cos(turn)
        y = 5e3 + a * math.cos(turn) - b * math.sin(turn)
        return float(columns(body, x, y).mean())

    middle, half, border, beyond = (ring(w) for w in (0.05, 0.45, 1.0, 1.2))
    assert middle > 0.0 and half > 0.3 * middle
    assert border < 0.35 * max(half, middle)
    assert beyond == 0.0 and ring(1.0 + BEYOND * 0.5 + 0.01) == 0.0


def test_a_bank_sinks_toward_its_ends(studio: Studio) -> None:
    """Its top comes down as it closes: a lens, not a cut cake."""
    sky = sky_of(layers=[{"id": "a", "genus": "stratus", "thickness_m": 400.0,
                          "bounds": {**BOUNDS, "shape": "ellipse", "bearing_deg": 0.0}}])
    body = studio.preparer.body(sky, sky.layers[0], FINE, Cancel())

    def top(way: float) -> float:
        z = np.arange(0.0, 410.0, 4.0)
        highest = []
        for side in np.linspace(-400.0, 400.0, 9):
            places = np.stack([np.full(len(z), 2e3 + side), np.full(len(z), 5e3 + way * 6e3),
                               body.base + z], axis=1)
            there = z[dense(body, places) > 0.0]
            highest.append(there.max() if len(there) else 0.0)
        return float(np.mean(highest))

    tops = [top(w) for w in (0.0, 0.7, 0.9, 1.05)]
    assert tops[0] > 250.0 and tops[1] > tops[2] > tops[3] and tops[3] < 0.35 * tops[0]


@pytest.mark.parametrize("amount", [0.0, 1.0])
def test_a_draped_base_follows_the_smoothed_land(studio: Studio, amount: float) -> None:
    """Correlation of a stratus's base with the smoothed land .98 at full share; level at none."""
    sky = sky_of(relief={**HILLS, "highest_m": 700.0}, layers=[
        {"id": "a", "genus": "stratus", "base_m": 500.0, "thickness_m": 120.0,
         "body": {"base_flatness": 1.0},         "drape": {"amount": amount, "smooth_km": 1.5}}])
    body = studio.preparer.body(sky, sky.layers[0], FINE, Cancel())
    plain = studio.preparer.body(sky.model_copy(update={"layers": [
        sky.layers[0].model_copy(update={"drape": sky.layers[0].drape.model_copy(
            update={"amount": 0.0})})]}), sky.layers[0].model_copy(update={
                "drape": sky.layers[0].drape.model_copy(update={"amount": 0.0})}), FINE, Cancel())
    rng = np.random.default_rng(3)
    x, y = rng.uniform(-6e3, 6e3, 300), rng.uniform(1e3, 13e3, 300)
    z = np.arange(200.0, 1700.0, 4.0)

    def bases(of: Any) -> np.ndarray:
        found = []
        for a, b in zip(x, y, strict=True):
            there = z[dense(of, np.stack([np.full(len(z), a), np.full(len(z), b), z], axis=1)) > 0]
            found.append(there[0] if len(there) else np.nan)
        return np.array(found)

    with_it, without = bases(body), bases(plain)
    if amount == 0.0:
        assert np.array_equal(with_it, without, equal_nan=True)
        return
    land = studio.preparer.maker(Cancel()).make(lift(relief=shape_of(sky.relief), smooth_m=1500.0))
    n = len(land.heights) - 1
    i = (x / land.square_m + 0.5 * n).astype(int)
    j = ((y - 7e3) / land.square_m + 0.5 * n).astype(int)
    there = np.isfinite(with_it)
    assert there.mean() > 0.9
    assert np.corrcoef(with_it[there], land.heights[i, j][there])[0, 1] > 0.98
    assert float(body.record["highest"]) > float(plain.record["highest"]) + 100.0


WIDE_HILLS = {"form": "hills", "extent_km": 34.0, "highest_m": 700.0, "ruggedness": 0.5}


@pytest.mark.parametrize("genus", ["cumulus", "stratus", "altocumulus", "stratocumulus"])
def test_cover_gathers_by_the_land_and_holds(studio: Studio, genus: str) -> None:
    """More cloud over the highest fifth of the land than over the lowest, or less; the whole
    within .3 okta of what is set, with and without following the land."""
    rng = np.random.default_rng(8)
    x, y = rng.uniform(-16e3, 16e3, (2, 3000))
    all_x, all_y = rng.uniform(-20e3, 20e3, (2, 6000))
    apart = {}
    for onto in ("none", "ridges", "valleys"):
        sky = sky_of(relief=WIDE_HILLS, layers=[{
            "genus": genus, "id": "a", "cover_oktas": 4.0, "base_m": 1500.0, "seed": 6,
            "clearings": {"share": 0.0}, "drape": {
                "amount": 0.5 if onto == "ridges" else 0.0, "smooth_km": 0.8,
                "gather": {"none": 0.0, "ridges": 0.8, "valleys": -0.8}[onto]}}])
        body = studio.preparer.body(sky, sky.layers[0], FINE, Cancel())
        stands = land_at(sky, x, y)
        over = columns(body, x, y) > EYE_DEPTH
        order = np.argsort(stands)
        high, low = over[order[-600:]].mean(), over[order[:600]].mean()
        apart[onto] = high - low
        assert 8.0 * (columns(body, all_x, all_y) > EYE_DEPTH).mean() == pytest.approx(4.0, abs=0.3)
    assert abs(apart["none"]) < 0.2
    least = 0.2 if genus == "cumulus" else 0.3  # heaps are wider than a valley
    assert apart["ridges"] > least and apart["valleys"] < -least


"""Pictures under a moving hand: near enough to the sketch that follows, and clouds that stay."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from dovrek.core.air.sun_place import Place
from dovrek.core.clouds.placement.deal import CellParameters, deal_cells, lattice_of
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import HAND
from dovrek.core.prepare.in_hand import near_sun
from dovrek.core.run.workers import Cancel
from dovrek.sky.document import Sky
from tests.conftest import sky_of

LAYERS = [{"genus": "cumulus", "id": "a", "cover_oktas": 3, "base_m": 900},
          {"genus": "cirrus", "id": "b"}]


def dragged(elevation: float, **parts: Any) -> Sky:
    return sky_of(sun={"mode": "free", "elevation_deg": elevation, "azimuth_deg": 200},
                  layers=LAYERS, **parts)


def luminance(studio: Studio, sky: Sky, quality: str) -> Any:
    return studio.render(sky, Wish(160, 90, quality)).light[..., 1].astype(float)


@pytest.mark.parametrize("elevation", [4.3, 33.0])
def test_a_picture_in_hand_is_like_the_sketch(studio: Studio, elevation: float) -> None:
    """Other suns were there before, so that light and sky are those kept for suns near by."""
    for before in (elevation + 1.7, elevation - 1.4):
        studio.preparer.scene(dragged(before), HAND, Cancel())
    hand, sketch = (luminance(studio, dragged(elevation), q) for q in ("hand", "sketch"))
    assert hand.mean() == pytest.approx(sketch.mean(), rel=0.06)
    assert np.corrcoef(np.log(hand).ravel(), np.log(sketch).ravel())[0, 1] > 0.93


def built(studio: Studio, sky: Sky) -> set[str]:
    """The stages that a scene in hand asks for anew."""
    studio.preparer.cache.reset_clock()
    studio.preparer.scene(sky, HAND, Cancel())
    return set(studio.preparer.cache.seconds)


LIGHT = {"extinction", "sun depth", "shade", "sun light", "sky light", "light"}


def heaps_with(**parts: Any) -> Sky:
    return sky_of(sun={"mode": "free", "elevation_deg": 33.0, "azimuth_deg": 200},
                  layers=[{**LAYERS[0], "seed": 77, **parts}, LAYERS[1]])


@pytest.mark.parametrize(("before", "after"), [
    ({"base_m": 940}, {"base_m": 1090}),
    ({"body": {"density_per_km": 41.9}}, {"body": {"density_per_km": 43.6}}),
])
def test_a_layer_that_rises_or_thickens_a_little_keeps_its_light(
        studio: Studio, before: dict[str, Any], after: dict[str, Any]) -> None:
    built(studio, heaps_with(**before))
    again = built(studio, heaps_with(**after))
    assert "scene" in again and not again & LIGHT
    pictures = [studio.render(heaps_with(**parts), Wish(160, 90, "hand")).light[..., 1]
                for parts in (before, after)]
    assert not np.array_equal(*pictures)  # yet what is seen is where, and as dense, as it is set
    assert "sun light" in built(studio, heaps_with(**{**after, "base_m": 2600}))


def test_layers_above_shade_one_that_changes_as_before(studio: Studio) -> None:
    built(studio, heaps_with(cover_oktas=3.1))
    again = built(studio, heaps_with(cover_oktas=3.6))
    assert again >= LIGHT - {"shade"} and "shade" not in again


def test_few_rays_make_a_picture_without_a_seam(studio: Studio) -> None:
    """One pixel of four and those along the horizon; what lies between agrees with marched rays,
    all the same wherever a thread took over from another."""
    sky = sky_of(sun={"mode": "free", "elevation_deg": 33.0, "azimuth_deg": 200}, layers=[],
                 camera={"pitch_deg": 12})
    wish = Wish(160, 90, "hand", sun_disc=False)
    found = studio.render(sky, wish)
    assert 0.25 * 160 * 90 < found.rays < 0.31 * 160 * 90
    prepared, _ = studio.prepare(sky, wish, Cancel())
    every = render_frame(prepared, wish.lens(sky), (160, 90),
                         replace(QUALITIES["draft"], spread=0.0, wide=0.0), studio.workers,
                         Cancel(), False)
    off = np.log2(found.light[..., 1] / every[..., 1])[:68]  # above the horizon
    assert np.abs(off).max() < 0.02


@pytest.mark.parametrize(("elevation", "apart"), [(2.2, 0.5), (40.0, 1.5), (-3.3, 0.5)])
def test_suns_that_are_kept_are_near(elevation: float, apart: float) -> None:
    sun = Place(math.radians(elevation), math.radians(elevation), 1.234)
    kept = near_sun(sun)
    assert abs(math.degrees(kept.elevation) - elevation) <= apart + 1e-6
    across = abs(kept.azimuth - sun.azimuth) * math.cos(sun.elevation)
    assert math.degrees(across) <= 1.1 * apart


def cells_of(lattice: int, rows: float = 0.0) -> CellParameters:
    return CellParameters(1500.0, 0.5, 0.35, 0.3, 9e3, 0.5, 5, 18, lattice, rows, 0.6, 0.8, 4e3,
                          0.5)


def whole(body: Any, count: int) -> None:
    body(0, count)


@pytest.mark.parametrize("rows", [0.0, 0.8])
def test_how_far_a_layer_is_seen_moves_no_cloud(rows: float) -> None:
    """A layer that rises is seen further; what stands within 40 km stays the same, to the bit."""
    def near(lattice: int) -> Any:
        found = deal_cells(cells_of(lattice, rows), whole)
        period = lattice * 1500.0
        x, y = ((found[k] + period / 2) % period - period / 2 for k in "xy")
        inside = (np.hypot(x, y) < 40e3) & (found["size"] > 0.0)
        order = np.lexsort((np.round(y[inside], 3), np.round(x[inside], 3)))
        return x[inside][order], y[inside][order], found["rank"][inside][order]

    one, other = near(lattice_of(90e3, 1500.0)), near(lattice_of(160e3, 1500.0))
    assert len(one[0]) == len(other[0]) > 10_000
    for a, b in zip(one, other, strict=True):
        assert np.allclose(a, b, atol=1e-3)


def test_fields_meet_themselves_at_the_border() -> None:
    """Clearings and patches pass over to the other side: no edge where the lattice ends."""
    lattice = lattice_of(60e3, 1500.0)
    found = deal_cells(cells_of(lattice), whole)
    rank = found["rank"].reshape(lattice, lattice, -1).mean(axis=2)
    steps = np.abs(np.diff(rank, axis=0)).mean(axis=1)
    middle = lattice // 2  # cells are counted from the camera: the border lies in the middle here
    assert steps[middle - 2 : middle + 2].max() < 1.6 * np.median(steps)


def test_steps_of_the_lattice() -> None:
    """A few metres more change nothing; what is seen always fits in."""
    sizes = [lattice_of(r, 1500.0) for r in np.linspace(60e3, 200e3, 60)]
    assert len(set(sizes)) < 14
    assert all(s * 1500.0 >= 2.19 * r or s == 642
               for s, r in zip(sizes, np.linspace(60e3, 200e3, 60), strict=True))

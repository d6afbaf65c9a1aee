"""What the words for a form promise: rolls, swollen cells, plates, trails of snow.

Definitions: WMO International Cloud Atlas (undulatus: rows or rolls that are fairly parallel;
stratocumulus of elements wider than 5° above 30° of height, altocumulus of 1° to 5°,
cirrocumulus of less than 1°; lenticularis: lens or almond; virga: trails that do not reach the
ground).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest

from dovrek.core.clouds.density import density
from dovrek.core.clouds.measure import column_depths
from dovrek.core.clouds.rain import FROZEN_M, MELTED_M, falls_from
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.march import _step
from dovrek.sky.document import Sky
from tests.conftest import free_sun


def sky_with(genus: str, **parts: Any) -> Sky:
    return free_sun(35, layers=[{"genus": genus, "id": "a", **parts}])


def body_of(studio: Studio, genus: str, **parts: Any) -> LayerBody:
    sky = sky_with(genus, **parts)
    return studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel())


def depths_of(body: LayerBody, half: float, count: int = 160) -> Any:
    """Vertical optical depth on a raster, (count, count), first axis east."""
    depths, lengths = np.empty((count, count)), np.empty((count, count))
    column_depths(body.field, 0, half, count, 24, 0, count, depths, lengths)
    return depths


def likeness_at(a: Any, step: tuple[int, int]) -> float:
    """Correlation of a raster with itself moved by so many pixels."""
    i, j = step
    n, m = a.shape
    one = a[max(i, 0):n + min(i, 0), max(j, 0):m + min(j, 0)]
    other = a[max(-i, 0):n + min(-i, 0), max(-j, 0):m + min(-j, 0)]
    return float(np.corrcoef(one.ravel(), other.ravel())[0, 1])


@pytest.mark.parametrize("genus", ["stratocumulus", "altocumulus", "cirrocumulus"])
def test_undulatus_lies_in_rolls_at_their_spacing(studio: Studio, genus: str) -> None:
    """Alike along a roll and a spacing away from it, unlike half a spacing away."""
    body = body_of(studio, genus, varieties=["undulatus"], clearings={"share": 0.0},
                   rows={"patchiness": 0.0}, wind={"from_deg": 270.0})  # waves across the wind
    spacing = body.layer.rows.spacing_km * 1e3  # type: ignore[operator]
    pixel = spacing / 8.0
    depths = depths_of(body, 80 * pixel)
    along, half, whole = likeness_at(depths, (0, 8)), likeness_at(depths, (4, 0)), likeness_at(
        depths, (8, 0))
    # Real rolls break, fork and differ in spacing: they are alike by no more than a part.
    assert half < -0.15 and whole > half + 0.3 and along > half + 0.25
    bare = body_of(studio, genus, clearings={"share": 0.0}, rows={"share": 0.0},
                   wind={"from_deg": 270.0})
    plain = depths_of(bare, 80 * pixel)
    assert likeness_at(plain, (4, 0)) > half + 0.1


@pytest.mark.parametrize(("genus", "low", "high"), [
    ("stratocumulus", 5.0, 40.0), ("altocumulus", 1.0, 5.0), ("cirrocumulus", 0.1, 1.0)])
def test_elements_are_as_wide_as_the_atlas_says(genus: str, low: float, high: float) -> None:
    """Width of a cell seen 30° above the horizon, where the atlas measures it."""
    layer = sky_with(genus).layers[0]
    away = layer.base_m / math.sin(math.radians(30.0))
    width = math.degrees(layer.cells.size_m / away)
    assert low <= width <= high


def test_merged_cells_still_swell(studio: Studio) -> None:
    """A closed sheet of cells is no even slab: its depth varies from cell to cell."""
    depths = depths_of(body_of(studio, "stratocumulus", cover_oktas=8.0, rows={"share": 0.0}),
                       4e3)
    inside = depths[depths > 0.5]
    assert inside.std() / inside.mean() > 0.25


@pytest.mark.parametrize("genus", ["altocumulus", "stratocumulus"])
def test_rims_of_cells_are_thin(studio: Studio, genus: str) -> None:
    """From clear sky to the middle of a cell the depth grows by and by: much of what is covered is
    translucent, as at real rims."""
    body = body_of(studio, genus, cover_oktas=4.0)
    depths = depths_of(body, 6.0 * body.layer.cells.size_m, 240)
    covered = depths[depths > 0.1]
    assert np.mean(covered < 0.3 * np.quantile(covered, 0.9)) > 0.2


def test_lenses_end_in_plates(studio: Studio) -> None:
    """Near its rim a lens is several plates with air between; without lobes it is one body."""
    def plates(lobes: float) -> int:
        body = body_of(studio, "altocumulus", species="lenticularis", cover_oktas=3.0,
                       body={"lobes": lobes, "fray": 0.0})
        shares = np.linspace(0.02, 0.98, 49)
        thick = body.layer.thickness_m
        most = 0
        for x in np.linspace(-15e3, 15e3, 150):
            for y in (-7e3, -2e3, 3e3, 8e3):
                inside = np.array([density(body.field, 0, x, y, s * thick, 0.0, 2.0)[1] > 0.0
                                   for s in shares])
                most = max(most, int(np.sum(np.diff(inside.astype(int)) == 1)))
        return most

    assert plates(1.0) >= 2 and plates(0.0) == 1


def test_a_lens_has_a_sharp_rim(studio: Studio) -> None:
    """Lens or almond: thickness falls toward the rim evenly, not like a ball's."""
    body = body_of(studio, "altocumulus", species="lenticularis", cover_oktas=3.0,
                   body={"lobes": 0.0, "fray": 0.0})
    depths, lengths = np.empty((200, 200)), np.empty((200, 200))
    column_depths(body.field, 0, 16e3, 200, 60, 0, 200, depths, lengths)
    thick = lengths[lengths > 0.0] / lengths.max()
    # A ball's disc has 44 % of its area above .75 of its height; two arcs have far less.
    assert np.mean(thick > 0.75) < 0.36


@pytest.mark.parametrize("base", [1500.0, 3600.0])
def test_snow_hides_more_than_the_rain_it_melts_to(studio: Studio, base: float) -> None:
    """High virga is snow and is seen; below the melting level the same fall is thin rain."""
    body = body_of(studio, "altocumulus", base_m=base, cover_oktas=8.0,
                   fall={"amount": 0.5, "reach": 1.0}, clearings={"share": 0.0})
    def mean_at(height: float) -> float:
        places = np.random.default_rng(3).uniform(-20e3, 20e3, (600, 2))
        return float(np.mean([density(body.field, 0, x, y, height - base, 0.0, 0.0)[1]
                              for x, y in places]))

    if base < MELTED_M:
        assert mean_at(1000.0) > 0.0  # rain all the way
        assert mean_at(1300.0) / mean_at(900.0) == pytest.approx(1.0, abs=0.25)
    else:
        assert mean_at(FROZEN_M + 100.0) > 3.5 * mean_at(MELTED_M - 100.0)


@pytest.mark.long
def test_virga_of_altocumulus_is_seen(studio: Studio) -> None:
    """Trails brighten blue sky below the cloud by several per cent."""
    def light(words: list[str]) -> Any:
        sky = free_sun(35, layers=[{
            "genus": "altocumulus", "species": "floccus", "features": words, "id": "a",
            "cover_oktas": 1.5, "seed": 3}],
            camera={"heading_deg": 25.0, "pitch_deg": 32.0, "lens_mm": 50.0})
        return studio.render(sky, Wish(128, 72, "proof"))

    bare, trailing = light([]), light(["virga"])
    open_sky = bare.light[..., 4] == 0.0  # no cloud before it
    ratio = trailing.light[..., 1][open_sky] / bare.light[..., 1][open_sky]
    assert open_sky.mean() > 0.3
    assert np.quantile(ratio, 0.9) > 1.06


def test_no_step_out_of_rain_runs_into_the_cloud(studio: Studio) -> None:
    """Else the cloud's lower edge is sampled by chance and comes out as grain."""
    body = body_of(studio, "altocumulus", species="floccus", features=["virga"])
    p = body.field.layers[0]
    radius, height = 6.371e6, 1.7
    base = p["base"] + falls_from(p)
    for slope in (0.15, 0.4, 0.9):
        for longer in (0.8, 1.5, 2.2):
            t = 0.0
            for _ in range(4000):
                r = math.sqrt((radius + height) ** 2 + 2 * (radius + height) * t * slope + t * t)
                ds, rain = _step(p, t, radius + height, slope, radius, longer, 0.0024)
                if rain:
                    plain = longer * (p["step"] + 0.0024 * t)
                    over = (r - radius) + ds * slope - base
                    assert over < 1.1 * plain
                elif r - radius > base:
                    break
                t += ds


@pytest.mark.parametrize("genus", ["stratus", "altostratus", "cirrus"])
def test_parts_of_a_sheet_live_apart(studio: Studio, genus: str) -> None:
    """With spread some parts of a dissolving sheet are gone while others still stand."""
    def unequal(spread: float) -> float:
        body = body_of(studio, genus, cover_oktas=6.0, clearings={"share": 0.0},
                       life={"stage": 0.8, "spread": spread})
        depths = depths_of(body, 20.0 * body.layer.cells.size_m, 120)
        parts = depths.reshape(12, 10, 12, 10).mean((1, 3))
        return float(parts.std() / parts.mean())

    assert unequal(1.0) > 1.08 * unequal(0.0)

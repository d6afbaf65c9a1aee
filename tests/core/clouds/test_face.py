"""Weather over a whole face of the planet: its controls, its share, and that it never repeats."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from dovrek.core.clouds.measure import sheet_scores
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.bodies import LayerBody
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from tests.conftest import free_sun

BASE = {"genus": "altostratus", "id": "a", "base_m": 2500, "thickness_m": 7000,
        "body": {"density_per_km": 12, "edge_m": 300}}


def sky_with(latitude: float = 0.0, cover: float = 4.0, camera: dict[str, Any] | None = None,
             seed: int = 1, **systems: Any) -> Any:
    return free_sun(55, layers=[{**BASE, "cover_oktas": cover, "seed": seed,
                                 "systems": {"stands": True, **systems}}],
                    site={"latitude": latitude, "timezone": "UTC"}, ground={"kind": "water"},
                    camera={"altitude_m": 9e6, "pitch_deg": -90, **(camera or {})})


def body_of(studio: Studio, **parts: Any) -> LayerBody:
    sky = sky_with(**parts)
    return studio.preparer.body(sky, sky.layers[0], SKETCH, Cancel())


def plan_of(body: LayerBody, half_m: float = 4.5e6, count: int = 180) -> Any:
    """Where it has cloud, (count, count), rows toward the east or the north as scores lie."""
    scores = np.empty((count, count))
    sheet_scores(body.field, 0, half_m, count, scores)
    return scores > float(body.record["level"])


@pytest.mark.parametrize("cover", [2.0, 4.0, 6.0])
def test_its_cover_is_its_share(studio: Studio, cover: float) -> None:
    """Mean of 3 seeds within .6 okta of what is set."""
    found = np.mean([plan_of(body_of(studio, cover=cover, seed=seed)).mean()
                     for seed in range(3)])
    assert 8.0 * found == pytest.approx(cover, abs=0.6)


def test_bands_lie_along_latitudes(studio: Studio) -> None:
    """With bands alone, cover goes more with latitude the stronger they are; least about 30°."""
    told = []
    for bands in (0.0, 0.5, 1.0):
        plan = np.mean([plan_of(body_of(studio, bands=bands, fronts=0.0, cells=0.0, seed=seed))
                        for seed in range(4)], axis=0)
        by = max((plan.mean(axis=k) for k in (0, 1)), key=lambda v: float(v.std()))
        told.append(float(by.std()))
    assert told[0] < told[1] < told[2], told
    away = np.abs(np.linspace(-4.5e6, 4.5e6, 180)) / 6.371e6
    clear, wet = by[(away > 0.42) & (away < 0.62)].mean(), by[away < 0.12].mean()
    assert wet > clear + 0.15


def test_fronts_and_cells_change_where_cloud_is(studio: Studio) -> None:
    """Each moves cloud about, the more the stronger, while its share holds."""
    for name in ("fronts", "cells"):
        plans = [plan_of(body_of(studio, latitude=45.0, bands=0.0, **{name: v}))
                 for v in (0.0, 0.5, 1.0)]
        moved = [float((plans[0] != p).mean()) for p in plans]
        assert moved[0] == 0.0 < moved[1] < moved[2], (name, moved)


def test_nothing_repeats(studio: Studio) -> None:
    """Autocorrelation of a plan 9000 km across, beyond a system's own size, stays below .35: of a
    dozen systems a few are alike by chance (ours)."""
    plan = plan_of(body_of(studio, latitude=45.0, bands=0.0)).astype(float)
    centred = plan - plan.mean()
    padded = np.zeros((360, 360))
    padded[:180, :180] = centred
    power = np.abs(np.fft.rfft2(padded)) ** 2
    window = np.zeros((360, 360))
    window[:180, :180] = 1.0
    pairs = np.fft.irfft2(np.abs(np.fft.rfft2(window)) ** 2, (360, 360))
    lags = np.fft.irfft2(power, (360, 360)) / np.maximum(pairs, 1.0) / centred.var()
    rows, columns = (np.minimum(a, 360 - a) for a in np.mgrid[0:360, 0:360])
    far = (np.hypot(rows, columns) > 2.4e6 / 5e4) & (rows < 110) & (columns < 110)
    assert np.abs(lags[far]).max() < 0.35


def test_the_planet_is_seen_whole(studio: Studio) -> None:
    """A disc of cloud, sea and night on black; the same twice."""
    sky = sky_with(camera={"altitude_m": 36e6, "lens_mm": 55})
    first, second = (studio.render(sky, Wish(96, 54, "draft", sun_disc=False)).light
                     for _ in range(2))
    assert np.array_equal(first, second) and np.isfinite(first).all()
    lit = first[..., 1]
    middle = lit[20:34, 40:56]
    assert lit[:, :8].max() < 1.0 and middle.max() > 4.0 * np.quantile(middle, 0.1)

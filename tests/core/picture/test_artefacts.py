"""Artefacts a photographer would see, each measured."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from scipy.signal import savgol_filter

from dovrek.core.clouds.density import density
from dovrek.core.clouds.measure import lid_touched
from dovrek.core.geometry.lens import dome_lens, picture_lens
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.sparing import bridge, every_fourth, every_other, find_uneven
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.prepare.fineness import FINE
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.sample import ALPHA
from dovrek.sky.advisories import LID_SHARE
from dovrek.sky.document import Camera
from tests import rasters
from tests.conftest import free_sun, long, sky_of

# Half the side of a plan that holds a good many patches of each genus, metres.
PLANS = {"cumulus": 24e3, "stratus": 130e3, "altocumulus": 90e3, "cirrus": 220e3}


def plan_of(studio: Studio, genus: str, size: int = 160) -> Any:
    """Cloud or not at mid height, from above."""
    sky = free_sun(50, layers=[{"genus": genus, "id": "a", "cover_oktas": 3.0}])
    body = studio.preparer.body(sky, sky.layers[0], FINE, Cancel())
    z = (0.18 if genus == "cumulus" else 0.45) * sky.layers[0].thickness_m
    found: Any = rasters.plan_of(body.field, PLANS[genus], size, z, 100.0) > 0
    return found.astype(float)


@pytest.mark.parametrize("genus", ["cumulus", "stratus", "altocumulus", "cirrus"])
def test_plan_does_not_repeat(studio: Studio, genus: str) -> None:
    """Autocorrelation of the plan view has no second peak far from its own (ours)."""
    plan = plan_of(studio, genus)
    plan -= plan.mean()
    spectrum = np.abs(np.fft.fft2(plan, s=(320, 320))) ** 2
    own = np.fft.fftshift(np.fft.ifft2(spectrum).real)
    weight = np.fft.fftshift(np.fft.ifft2(np.abs(np.fft.fft2(np.ones((160, 160)),
                                                             s=(320, 320))) ** 2).real)
    y, x = np.ogrid[-160:160, -160:160]
    far = (np.hypot(y, x) > 50) & (weight > 0.25 * weight.max())
    assert (own / weight.clip(1))[far].max() < 0.45 * own.max() / weight.max()


def test_no_lanes_along_the_lattice(studio: Studio) -> None:
    """Cells stand on a lattice: no line of it may be empty (seen as a lane to the horizon)."""
    sky = free_sun(50, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 2,
                                "cells": {"size_m": 1300}}])
    field = studio.preparer.body(sky, sky.layers[0], FINE, Cancel()).field
    along = np.linspace(5e3, 150e3, 700)
    for turn in (False, True):
        shares = np.array([np.mean([density(field, 0, *((b, a) if turn else (a, b)), 200.0, 0.0,
                                            0.0)[1] > 0 for a in along])
                           for b in np.arange(-6500.0, 6500.0, 325.0)])
        assert shares.min() > 0.3 * shares.mean()


def test_qualities_agree(studio: Studio) -> None:
    """Draft, proof and final of one size agree within 2 % in mean luminance (product.md)."""
    sky = free_sun(35, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 3},
                               {"genus": "cirrus", "id": "b", "cover_oktas": 3}])
    means = {q: studio.render(sky, Wish(320, 180, q)).light[..., 1].mean()
             for q in ("draft", "proof", "final")}
    assert means["draft"] == pytest.approx(means["final"], rel=0.02)
    assert means["proof"] == pytest.approx(means["final"], rel=0.01)


@pytest.mark.parametrize("genus", ["cumulus", long("stratus"), long("altocumulus"), "cirrus"])
def test_sizes_agree(studio: Studio, genus: str) -> None:
    """A small draft is as bright as a large final: detail too fine to be drawn is replaced by
    its mean (product.md: within 2 % in mean luminance)."""
    sky = free_sun(35, layers=[{"genus": genus, "id": "a", "cover_oktas": 4}],
                   camera={"pitch_deg": 20.0})
    small = studio.render(sky, Wish(240, 135, "draft", sun_disc=False)).light[..., 1].mean()
    large = studio.render(sky, Wish(720, 405, "final", sun_disc=False)).light[..., 1].mean()
    assert small == pytest.approx(large, rel=0.02)


def test_bridged_picture_is_as_good_as_every_ray(studio: Studio) -> None:
    """Leaving out rays between neighbours that agree costs less than a hundredth of a stop
    beyond one sample's own noise (after averaging 2 × 2 pixels), and saves rays."""
    sky = free_sun(40, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 3}],
                   camera={"pitch_deg": 18})
    prepared, _ = studio.prepare(sky, Wish(320, 180), Cancel())
    lens = picture_lens(sky.camera, 320 / 180)

    def march(**parts: Any) -> tuple[Any, int]:
        rays: list[int] = []
        light = render_frame(prepared, lens, (320, 180), replace(QUALITIES["proof"], **parts),
                             studio.workers, Cancel(), False, counted=rays)
        return np.log2(light[..., 1].reshape(90, 2, 160, 2).mean((1, 3))), sum(rays)

    still, _ = march(samples=12, spread=0.0)
    every, all_rays = march(spread=0.0)
    spared, rays = march()
    assert rays < 0.85 * all_rays == 0.85 * 320 * 180
    error, own = np.sqrt(np.mean((spared - still) ** 2)), np.sqrt(np.mean((every - still) ** 2))
    assert own > 0 and error < own + 0.01


@pytest.mark.parametrize("slanting", [0, 1])
def test_bridge_keeps_edges(slanting: int) -> None:
    """A pixel between cloud and sky is marked, one in an even part becomes the mean."""
    light = np.zeros((6, 8, 5), dtype=np.float32)
    light[..., :3], light[..., ALPHA] = 100.0, 1.0
    light[:, 4:, :3] = 300.0
    chequer = every_other(6, 8, 0, 0, 0)
    there = every_fourth(6, 8, 0, 0, 0) if slanting else chequer
    wanted = chequer - there if slanting else 1 - chequer
    hidden = light.copy()
    light[there == 0] = 0.0
    uneven = np.empty_like(there)
    bridge(light, there, wanted, slanting, 0.2, uneven)
    assert uneven[:, 1:7].sum() > 0 and set(np.nonzero(uneven[1:5, 1:7])[1] + 1) <= {3, 4}
    filled = (wanted != 0) & (uneven == 0)
    assert filled.any() and light[filled] == pytest.approx(hidden[filled])
    assert (light[(wanted == 0) & (there == 0)] == 0.0).all()
    find_uneven(hidden, 0.2, uneven)
    assert set(np.nonzero(uneven)[1]) == {3, 4}


@pytest.mark.parametrize("height", [32, 64])  # in small tiles and in whole ones
def test_a_clear_sky_has_no_bands(studio: Studio, height: int) -> None:
    """Across a slope beside the sun no pixel is off a smooth curve by a thousandth of a stop,
    tiles' borders included: an eighth of the finest step that eight bits show (ours)."""
    sky = sky_of(air={"haze": 0.1}, camera={"heading_deg": 0, "pitch_deg": 25, "lens_mm": 18},
                 sun={"mode": "free", "elevation_deg": 20, "azimuth_deg": 60})
    light = studio.render(sky, Wish(512, height, "final", sun_disc=False)).light[..., 1]
    for row in (0, height // 2 - 1, height - 1):
        stops = np.log2(light[row])
        assert np.ptp(stops) > 2.0
        assert np.abs(stops - savgol_filter(stops, 41, 3)).max() < 0.001
    for column in (0, 255, 384):
        stops = np.log2(light[:, column])
        assert np.abs(stops - savgol_filter(stops, 21, 3)).max() < 0.001


@pytest.mark.parametrize("sample", range(4))
def test_one_pixel_in_four_comes_first(sample: int) -> None:
    """Every fourth pixel is one of every other, and so across the borders of tiles."""
    fourth, other = (f(32, 64, 0, 0, sample) for f in (every_fourth, every_other))
    assert (fourth <= other).all() and other.sum() == 2 * fourth.sum() == 32 * 32
    blocks = fourth.reshape(16, 2, 32, 2).sum((1, 3))
    assert (blocks == 1).all()
    assert (every_fourth(12, 9, 7, 5, sample) == fourth[7:19, 5:14]).all()


def test_dome_has_no_seam_at_its_back(studio: Studio) -> None:
    """First and last column differ no more than neighbours do, and the poles are even."""
    sky = free_sun(35, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 3}])
    light = studio.render(sky, Wish(256, 128, "proof", "dome", sun_disc=False)).light[..., 1]
    steps = np.abs(np.diff(np.log(light), axis=1)).mean(axis=0)
    seam = np.abs(np.log(light[:, 0]) - np.log(light[:, -1])).mean()
    assert seam < steps.mean() + 4 * steps.std()
    assert np.ptp(light[0]) < 0.5 * light[0].mean() and np.ptp(light[-1]) < 0.1 * light[-1].mean()


def test_horizon_is_reached_and_has_no_dark_line(studio: Studio) -> None:
    """Rows just above the horizon under a full sheet are cloud and haze, none darker than the
    rows around it by a fifth."""
    sky = free_sun(40, layers=[{"genus": "stratus", "id": "a", "cover_oktas": 8.0}])
    camera = Camera(pitch_deg=3.0, lens_mm=200.0)
    prepared, _ = studio.prepare(sky, Wish(96, 54), Cancel())
    frame = render_frame(prepared, picture_lens(camera), (96, 54), QUALITIES["proof"],
                         studio.workers, Cancel(), False, ground=False)
    rows = frame[..., 1].mean(axis=1)[frame[..., ALPHA].mean(axis=1) > 0.99]
    assert len(rows) > 40
    assert rows[1:-1] == pytest.approx(0.5 * (rows[2:] + rows[:-2]), rel=0.2)


def test_far_clouds_are_no_brighter_than_near_ones(studio: Studio) -> None:
    """Coarse light levels must not glow: cumulus 25 to 60 km away, haze aside, is within a third
    of cumulus 3 to 8 km away, seen the same way (ours)."""
    sky = free_sun(40, air={"haze": 0.02}, layers=[{"genus": "cumulus", "id": "a",
                                                     "cover_oktas": 3.0}])
    prepared, _ = studio.prepare(sky, Wish(64, 32), Cancel())
    frame = render_frame(prepared, dome_lens(), (1024, 512), QUALITIES["draft"], studio.workers,
                         Cancel(), False, ground=False)
    luminance, distance = frame[..., 1], frame[..., 4]
    near = luminance[(distance > 3e3) & (distance < 8e3)]
    far = luminance[(distance > 25e3) & (distance < 60e3)]
    assert near.size > 500 and far.size > 500
    assert far.mean() == pytest.approx(near.mean(), rel=0.34)


@pytest.mark.parametrize("sun", [-1.5, -4.0, 1.0])
def test_clouds_at_dusk_are_not_black(studio: Studio, sun: float) -> None:
    """At dusk clouds keep at least a twentieth of the clear sky beside them (ours)."""
    sky = free_sun(sun, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 3.0}],
                   camera={"pitch_deg": 20, "heading_deg": 90})
    frame = studio.render(sky, Wish(160, 90, "proof")).light
    cloud, clear = frame[..., 4] > 0, frame[..., 4] == 0
    clear[60:] = False
    assert cloud.sum() > 300 and clear.sum() > 300
    assert np.percentile(frame[..., 1][cloud], 5) > 0.05 * np.median(frame[..., 1][clear])


@pytest.mark.parametrize("genus", ["cumulus", "stratus", "altocumulus", "cirrus"])
@pytest.mark.parametrize("lobes", [0.0, 1.0])
def test_no_cloud_is_cut_flat_by_its_lid(studio: Studio, genus: str, lobes: float) -> None:
    """Tops keep below the top of their layer, however much they swell."""
    sky = free_sun(50, layers=[{"genus": genus, "id": "a", "cover_oktas": 5.0,
                                "body": {"lobes": lobes}}])
    field = studio.preparer.body(sky, sky.layers[0], FINE, Cancel()).field
    assert lid_touched(field, 0, 15e3, 100) < LID_SHARE


def test_horizon_is_smooth_in_one_sample(studio: Studio) -> None:
    """Pixels that the horizon crosses hold sky and ground by their areas: along a tilted horizon
    the light of a proof changes evenly, within half the step from sky to ground."""
    sky = free_sun(40, camera={"pitch_deg": 0.0, "roll_deg": 6.0})
    light = studio.render(sky, Wish(120, 66, "proof")).light[..., 1].astype(float)
    sums = light[20:46].sum(axis=0)
    step = light[20:26].mean() - light[40:46].mean()
    assert np.abs(np.diff(sums, 2)).max() < 0.5 * step


def test_shadow_rays_take_light_below_clouds_only(studio: Studio) -> None:
    """With shadow rays the haze under gaps is brighter than under cloud, and the mean changes
    little: clouds' shadows are moved to where they fall, not added (ours)."""
    parts: dict[str, Any] = {
        "layers": [{"genus": "cumulus", "id": "a", "cover_oktas": 4.0, "seed": 2}],
        "camera": {"heading_deg": 100, "pitch_deg": 8.0}}
    frames = {on: studio.render(free_sun(25, air={"haze": 0.5, "shadow_rays": on}, **parts),
                                Wish(192, 108, "proof", sun_disc=False)).light[..., 1]
              for on in (False, True)}
    ratio = frames[True][:70] / frames[False][:70]
    assert ratio.std() > 0.05
    assert frames[True][:70].mean() == pytest.approx(frames[False][:70].mean(), rel=0.25)
    clear = [studio.render(free_sun(25, air={"haze": 0.5, "shadow_rays": on}),
                           Wish(64, 36, "draft")).light for on in (False, True)]
    assert np.array_equal(*clear)

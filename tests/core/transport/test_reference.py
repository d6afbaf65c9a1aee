"""The path tracer against discrete ordinates, and the march against both."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pytest

from dovrek.core.clouds.density import density
from dovrek.core.clouds.phase import DROPLETS
from dovrek.core.geometry.lens import direction_at, dome_lens
from dovrek.core.picture.render import QUALITIES, render_frame
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel, Cancelled
from dovrek.core.transport import reference
from dovrek.core.transport.paths import turn_by
from dovrek.core.transport.reference import trace_frame, tracing_of
from dovrek.core.transport.sample import ALPHA, DISTANCE
from tests.conftest import free_sun, long
from tools.accuracy import Case, cases, compare, fast_frame, fingerprint, path_of
from tools.slab import exact, fluxes, photons, slab

pytestmark = pytest.mark.filterwarnings("ignore:Some delta-scaled")
# Mean luminance within 10 %, blocks within 20 % beyond the reference's own noise (checks.md).
MEAN, BLOCKS = 0.10, 0.20
# Where more is known to be missing: distant lit faces are a quarter dark there, a base beneath them
# a fifth bright (docs/light.md).
KNOWN_BLOCKS = {"tall towers 20° away": 0.24}
# What stands for its genus in the tests; `make bench` shows all.
TESTED = [c for c in cases() if c.held_out or c.name in (
    "tall heaps 35° aside", "thin sheet 12° toward", "cells under streaks 45° away",
    "cumulus 60° toward", "cumulus 20° away", "cumulus 5° away", "stratus 60° toward",
    "stratus 20° away", "stratus 5° away", "altocumulus 60° away", "altocumulus 20° toward",
    "altocumulus 5° toward", "cirrus 60° toward", "cirrus 20° away", "cirrus 5° toward")]
DAILY = ("cells under streaks 45° away", "cumulus 20° away", "stratus 60° toward",
         "altocumulus 5° toward")


@pytest.mark.parametrize("sun", [60, 30])
@pytest.mark.parametrize("depth", [2, 8, long(32)])
def test_photons_through_a_slab(studio: Studio, depth: float, sun: float) -> None:
    """Free flights and turns of the path tracer: reflectance and transmittance of an even slab
    within 1 % of the light against PythonicDISORT (Stamnes et al. 1988), whose phase moments are
    the engine's own."""
    known, found = exact(depth, sun), photons(studio, depth, sun, 30_000)
    assert found == pytest.approx(known, abs=0.01)


@pytest.mark.long
@pytest.mark.parametrize(("depth", "sun"), [(8, 60), (8, 30)])
def test_path_traced_slab(studio: Studio, depth: float, sun: float) -> None:
    """The same by whole paths from the camera, sunlight gathered at every turn; the narrow glow
    about the sun leaves noise of about 1 %."""
    known, found = exact(depth, sun), fluxes(studio, depth, sun, 150, (96, 48))
    assert found == pytest.approx(known, abs=0.03)
    assert sum(found) == pytest.approx(1.0, abs=0.04)  # droplets absorb nothing


@pytest.mark.parametrize(("sun", "within"), [(60, 0.05), (30, 0.05), (5, 0.10)])
@pytest.mark.parametrize("depth", [2, 8, 32])
def test_fast_slab(studio: Studio, depth: float, sun: float, within: float) -> None:
    """Transmittance by the march against PythonicDISORT (Stamnes et al. 1988)."""
    assert fluxes(studio, depth, sun)[1] == pytest.approx(exact(depth, sun)[1], rel=within)


@pytest.mark.parametrize("depth", [long(8), long(32)])
def test_slab_gradation(studio: Studio, depth: float) -> None:
    """Under an even slab the march falls off toward the horizon as the path tracer does:
    azimuth means within 20 % above 8° (no outside value; ours)."""
    prepared = slab(studio, depth, 60)
    below = replace(prepared, scene=prepared.scene._replace(height=2.0))
    every = replace(QUALITIES["final"], samples=2, spread=0.0)
    fast = render_frame(below, dome_lens(), (96, 48), every, studio.workers, Cancel(), False)
    true, _ = trace_frame(below.scene, tracing_of(2 * [prepared.scene.clear], sky=False),
                          dome_lens(), (96, 48), 100, studio.workers, Cancel())
    pairs = [(f[..., 1][2:22].reshape(5, -1).mean(axis=1)) for f in (fast, true)]
    assert pairs[0] == pytest.approx(pairs[1], rel=0.2)


@pytest.mark.parametrize("case", [c if c.name in DAILY or c.whole else long(c) for c in TESTED],
                         ids=lambda c: c.name)
def test_fast_against_the_reference(studio: Studio, case: Case) -> None:
    """Committed path-traced pictures of each genus and of skies no fit has seen."""
    with np.load(path_of(case)) as kept:
        true = dict(kept)
    prepared, _ = studio.prepare(case.sky, Wish(64, 36, "final"), Cancel())
    assert fingerprint(prepared) == pytest.approx(float(true["fingerprint"]), rel=1e-5), (
        "the clouds have changed: render the references anew by `python -m tools.accuracy`")
    found = compare(fast_frame(studio, case), true, case.whole)
    assert found.mean == pytest.approx(1.0, abs=MEAN)
    beyond = math.sqrt(max(found.rms**2 - found.noise**2, 0.0))
    assert beyond < KNOWN_BLOCKS.get(case.name, BLOCKS)


@pytest.mark.long
def test_seeds_agree(studio: Studio) -> None:
    """Two independent series of paths agree within their noise, and every pixel is lit."""
    sky = free_sun(50, layers=[{"genus": "cumulus", "id": "a", "cover_oktas": 4}],
                   camera={"pitch_deg": 25, "lens_mm": 24})
    wish = Wish(32, 18, "final", sun_disc=False)
    first = studio.trace(sky, wish, 160)
    views = studio.preparer.surroundings(first.prepared, Cancel())
    other, error = trace_frame(first.prepared.scene, tracing_of(views),
                               wish.lens(sky), (32, 18), 160, studio.workers, Cancel(), seed=2)
    noise = math.sqrt(float(np.sum(error**2))) / error.size
    assert first.light[..., 1].mean() == pytest.approx(other[..., 1].mean(), abs=4.5 * noise)
    assert first.light[..., ALPHA].min() == 1.0 and first.light[..., :3].min() > 0.0
    assert not np.array_equal(first.light, other)


@pytest.mark.parametrize("genus", ["cumulus", "altocumulus", long("stratus")])
def test_distances_are_never_too_long(studio: Studio, genus: str) -> None:
    """What lets rays jump: a trusted share of the distance passes an optical depth of less than
    .004 on average."""
    sky = free_sun(50, layers=[{"genus": genus, "id": "a", "cover_oktas": 4}])
    prepared, _ = studio.prepare(sky, Wish(64, 36, "final"), Cancel())
    field = prepared.scene.field
    rng = np.random.default_rng(3)
    thick, jumps, missed = float(field.layers[0]["thickness"]), 0, 0.0
    for x, y, z in rng.uniform((-8e3, -8e3, 0), (8e3, 8e3, thick), (4000, 3)):
        f, sigma = density(field, 0, x, y, z, 0.0, 2)
        if f < -2.0:
            assert sigma == 0.0
            way = rng.normal(size=3)
            far = reference.TRUSTED * f * rng.uniform() / np.linalg.norm(way)
            jumps += 1
            missed += reference.TRUSTED * -f * density(
                field, 0, *(np.array([x, y, z]) + far * way), 0.0, 2)[1]
    assert jumps > 300 and missed / jumps < 0.004


def test_directions_follow_the_phase_function() -> None:
    """Drawn turns have the phase function's mean cosine (Henyey & Greenstein 1941)."""
    state, ray = np.array([7], dtype=np.uint64), np.empty(3)
    lobes = np.array(DROPLETS.flat())
    total, count = 0.0, 40_000
    for _ in range(count):
        ray[:] = (0.6, 0.0, 0.8)
        turn_by(lobes, ray, state)
        total += 0.6 * ray[0] + 0.8 * ray[2]
        assert abs(float(np.dot(ray, ray)) - 1.0) < 1e-9
    assert total / count == pytest.approx(DROPLETS.asymmetry, abs=0.006)


def test_reference_stops_when_told(studio: Studio) -> None:
    cancel = Cancel()
    cancel.set()
    with pytest.raises(Cancelled):
        studio.trace(free_sun(30), Wish(64, 36), 8, cancel)


def test_light_comes_back_from_the_ground(studio: Studio) -> None:
    """Under a full sheet over snow the path tracer's ground is brighter than over dark ground by
    more than the albedos' ratio: light goes to and fro (a/(1 − aR), here R about half)."""
    means = []
    for albedo in (0.1, 0.8):
        sky = free_sun(50, air={"ground_albedo": albedo, "ground_warmth": 0.0},
                       layers=[{"genus": "stratus", "id": "a", "cover_oktas": 8.0}],
                       camera={"pitch_deg": -45.0})
        traced = studio.trace(sky, Wish(16, 9, "draft"), 120).light[..., 1].mean()
        marched = studio.render(sky, Wish(64, 36, "draft")).light[..., 1].mean()
        assert marched == pytest.approx(traced, rel=0.15)
        means.append(traced)
    assert means[1] / means[0] > 1.2 * 8.0


@pytest.mark.long
@pytest.mark.parametrize(("layer", "height"), [
    ({"genus": "cumulus", "cover_oktas": 6.5}, 12), ({"genus": "cumulus", "cover_oktas": 2.5}, 50),
    ({"genus": "stratus", "cover_oktas": 8.0}, 55), ({"genus": "stratus", "cover_oktas": 8.0}, 15)])
def test_ground_between_clouds_is_as_bright_as_traced(studio: Studio, layer: dict[str, Any],
                                                      height: float) -> None:
    """Ground within 3 km of a camera 300 m up, in and out of the clouds' shadows, is as bright on
    the mean of four deals as the path tracer has it, within 20 % (ours). Most of that ground is so
    near that a single shadow's edge can move one deal's mean by more."""
    marched = traced = 0.0
    wish = Wish(48, 24, "proof", "dome", sun_disc=False)
    for seed in range(1, 5):
        sky = free_sun(height, layers=[{"id": "a", "seed": seed, **layer}],
                       camera={"altitude_m": 300.0})
        marched += studio.render(sky, wish).light[13:20, :, 1].mean()
        traced += studio.trace(sky, wish, 60).light[13:20, :, 1].mean()
    assert marched == pytest.approx(traced, rel=0.2)


WASH = {"strength": 1.0, "lit": "#ffd9b0", "body": "#6080ff", "base": "#408040"}


@pytest.mark.long
@pytest.mark.parametrize("layer", [{"genus": "cumulus", "cover_oktas": 5.0},
                                   {"genus": "stratus", "cover_oktas": 8.0}])
def test_a_traced_wash_is_the_marched_one(studio: Studio, layer: dict[str, Any]) -> None:
    """Unlike colours on what sun, sky and ground light change X and Z over Y alike in both, within
    12 %: so each source has its share. Y stays as it was (ours)."""
    ratios = []
    for strength in (0.0, 1.0):
        sky = free_sun(30, layers=[{"id": "a", **layer, "wash": {**WASH, "strength": strength}}],
                       camera={"heading_deg": 25, "pitch_deg": 24, "lens_mm": 28})
        wish = Wish(48, 27, "final", sun_disc=False)
        marched, traced = studio.render(sky, wish).light, studio.trace(sky, wish, 96).light
        clouds = traced[..., DISTANCE] > 0.0
        light = [found[clouds, :3].mean(axis=0) for found in (marched, traced)]
        ratios.append([xyz / xyz[1] for xyz in light])
        ratios[-1].append(light[0][1])
    assert ratios[1][0] == pytest.approx(ratios[1][1], rel=0.12)
    assert abs(ratios[1][1][2] / ratios[0][1][2] - 1.0) > 0.1  # the colours are seen
    assert ratios[1][2] == pytest.approx(ratios[0][2], rel=0.01)


def test_a_traced_halo_is_the_marched_one(studio: Studio) -> None:
    """What a ring adds between 20° and 27° from the sun, traced and marched: with the same paths
    the noise drops out."""
    added = []
    for halo in (0.0, 1.0):
        sky = free_sun(25, layers=[{"genus": "cirrostratus", "id": "a", "light": {"halo": halo}}],
                       camera={"heading_deg": 180, "pitch_deg": 25, "lens_mm": 20})
        wish = Wish(64, 36, "proof", sun_disc=False, ground=False)
        added.append((studio.render(sky, wish).light[..., :3],
                      studio.trace(sky, wish, 48).light[..., :3]))
    rays = [[direction_at(wish.lens(sky), (x + 0.5) / 64, (y + 0.5) / 36) for x in range(64)]
            for y in range(36)]
    towards = direction_at(wish.lens(sky), 0.5, 0.5)  # the sun stands in the middle
    off = np.degrees(np.arccos(np.clip(np.array(rays) @ towards, -1.0, 1.0)))
    marched, traced = (added[1][k] - added[0][k] for k in (0, 1))
    ring, inside = (off > 21.0) & (off < 26.0), off < 17.0
    assert traced[ring, 1].mean() > 6.0 * abs(traced[inside, 1].mean())
    assert marched[ring, 1].mean() == pytest.approx(traced[ring, 1].mean(), rel=0.2)

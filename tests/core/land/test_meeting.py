"""Rays against the land: a brute-force march, closed forms of light and sky, what a camera sees."""

from __future__ import annotations

import math

import numpy as np
import pytest

from dovrek.core.compile.kernels import kernel
from dovrek.core.land.forms import FORMS, heights_of
from dovrek.core.land.meeting import (
    LAND,
    height_at,
    land_distance,
    land_normal,
    peaks_of,
    profile,
    raised,
    standing_height,
)
from dovrek.core.land.sky_share import sky_shares
from dovrek.core.picture.studio import Studio, Wish
from dovrek.core.run.workers import Cancel, Workers
from dovrek.sky.relief import Relief
from tests.conftest import free_sun

RADIUS = 6_371_000.0
SQUARE_M = 25.0


def land_of(heights: np.ndarray, turn: float = 0.0) -> tuple[np.void, np.ndarray]:
    peaks, places = peaks_of(heights)
    record = np.zeros(1, LAND)[0]
    record["squares"], record["levels"] = len(heights) - 1, len(places) - 1
    record["cos"], record["sin"], record["square_m"] = math.cos(turn), math.sin(turn), SQUARE_M
    record["highest"] = heights.max()
    record["peaks_at"][: len(places)] = places
    return record, peaks


@kernel
def _brute(land, heights, radius, rays, step, far, out):
    """The first place at which steps find a ray below the land, halved to a millimetre."""
    for k in range(len(rays)):
        x, y, h, dx, dy, dz = rays[k]
        bend = (1.0 - dz * dz) / (2.0 * radius)
        t = 0.0
        out[k] = -1.0
        while t < far:
            t += step
            if h + t * (dz + bend * t) <= height_at(land, heights, x + t * dx, y + t * dy):
                low, high = t - step, t
                for _ in range(24):
                    mid = 0.5 * (low + high)
                    if h + mid * (dz + bend * mid) <= height_at(
                            land, heights, x + mid * dx, y + mid * dy):
                        high = mid
                    else:
                        low = mid
                out[k] = high
                break


@kernel
def _fast(land, heights, peaks, radius, rays, far, out):
    for k in range(len(rays)):
        x, y, h, dx, dy, dz = rays[k]
        out[k] = land_distance(land, heights, peaks, radius, x, y, h, dx, dy, dz, far)


@pytest.mark.parametrize("seed", [1, 2])
def test_rays_meet_random_land_where_a_march_does(seed: int) -> None:
    """10⁵ rays over rough random heights: within half a square, none missed (the march's steps of
    .03 squares jump crests that are thinner, which the pyramid finds)."""
    rng = np.random.default_rng(seed)
    n = 128
    heights = (rng.uniform(0.0, 90.0, (n + 1, n + 1)) + 60.0 * np.sin(
        np.arange(n + 1) / 9.0)[:, None]).clip(0.0).astype(np.float32)
    land, peaks = land_of(heights, turn=0.4)
    count, half = 50_000, 0.5 * n * SQUARE_M
    rays = np.empty((count, 6))
    rays[:, :2] = rng.uniform(-1.3 * half, 1.3 * half, (count, 2))
    rays[:, 2] = rng.uniform(155.0, 500.0, count)
    azimuth, rise = rng.uniform(0, 2 * math.pi, count), rng.uniform(-0.5, 0.03, count)
    rays[:, 3], rays[:, 4] = np.cos(rise) * np.sin(azimuth), np.cos(rise) * np.cos(azimuth)
    rays[:, 5] = np.sin(rise)
    far, slow, quick = 6000.0, np.empty(count), np.empty(count)
    _brute(land, heights, RADIUS, rays, 0.03 * SQUARE_M, far, slow)
    _fast(land, heights, peaks, RADIUS, rays, far, quick)
    # Beside the land its height is 0 and rays that go down meet level ground there, not land.
    ends = rays[:, 2] + slow * (rays[:, 5] + slow * (1 - rays[:, 5] ** 2) / (2 * RADIUS))
    real = (slow >= 0.0) & (ends > 0.05)
    assert real.sum() > 15_000
    assert (quick[real] >= 0.0).all()  # none is missed
    late = quick[real] - slow[real]
    assert late.max() < 0.5 * SQUARE_M  # never behind what the march finds
    assert (np.abs(late) < 0.5 * SQUARE_M).mean() > 0.99  # a thin crest is found, not jumped
    clear = (slow < 0.0) & (quick >= 0.0)
    assert clear.mean() < 0.005


def test_normals_are_those_of_a_plane() -> None:
    x = np.arange(65) * SQUARE_M
    heights = (0.3 * x[:, None] + 0.1 * x[None, :]).astype(np.float32)
    land, _ = land_of(heights)
    out = np.empty(3)
    land_normal(land, heights, 40.0, -70.0, out)
    assert out == pytest.approx(np.array([-0.3, -0.1, 1.0]) / math.sqrt(1.1), abs=1e-4)


def test_sky_seen_from_a_valley_and_a_pit() -> None:
    """On the side of a long V, tilted by a, whose other rim stands b above the level, a plate gets
    (1 + cos(a + b))/2 of an even sky's light (a strip between planes, closed form); the bottom of a
    pit whose rim stands at an angle b all around gets cos² b."""
    n, a = 512, math.radians(35.0)
    at = np.abs(np.arange(n + 1) - n / 2 - 0.01) * SQUARE_M
    valley = np.repeat((at * math.tan(a)).astype(np.float32)[:, None], n + 1, axis=1)
    workers = Workers(2)
    shares = sky_shares(valley, SQUARE_M, workers, Cancel())
    flank = float(shares[90:110, 120:136].mean())
    rim = math.atan(math.tan(a) * (256.0 - 56.0) / (256.0 + 56.0))  # 56 squares up the side
    assert flank == pytest.approx(0.5 * (1.0 + math.cos(a + rim)), abs=0.02)
    x = (np.arange(n + 1) - n / 2) * SQUARE_M
    far = np.hypot(x[:, None], x[None, :])
    b = math.radians(30.0)
    pit = np.where(far > 500.0, 500.0 * math.tan(b), 0.0).astype(np.float32)
    middle = float(sky_shares(pit, SQUARE_M, workers, Cancel())[127:129, 127:129].mean())
    workers.close()
    assert middle == pytest.approx(math.cos(b) ** 2, abs=0.03)


@pytest.mark.parametrize("form", sorted(FORMS))
def test_invented_land_ends_level_and_is_its_seed_s(form: str) -> None:
    one = heights_of(Relief(form=form, highest_m=300.0, seed=4))  # type: ignore[arg-type]
    other = heights_of(Relief(form=form, highest_m=300.0, seed=5))  # type: ignore[arg-type]
    assert one.max() == pytest.approx(300.0) and one.min() >= -0.5
    border = np.concatenate([one[0], one[-1], one[:, 0], one[:, -1]])
    assert border.max() < 1.0 and not np.array_equal(one, other)
    assert np.isfinite(one).all() and one.shape == (1025, 1025)


def test_the_camera_stands_on_the_land() -> None:
    sky = free_sun(30, relief={"form": "mountain", "north_km": 0, "highest_m": 900})
    stands = standing_height(sky)
    assert 300.0 < stands <= 900.0
    assert raised(sky).camera.altitude_m == pytest.approx(stands + sky.camera.altitude_m)
    assert standing_height(free_sun(30)) == 0.0
    along = profile(free_sun(30, relief={"form": "hills"}), 50, 20_000.0)
    assert max(h for _, h in along) > 60.0 and along[0] == (0.0, 0.0)


@pytest.fixture(scope="module")
def studio():  # type: ignore[no-untyped-def]
    made = Studio(2)
    yield made
    made.close()


def mean_of(studio: Studio, sky: object, rows: slice, view: str = "picture") -> np.ndarray:
    light = studio.render(sky, Wish(160, 90, "draft", view)).light  # type: ignore[arg-type]
    return np.asarray(light[rows, :, :3].mean(axis=(0, 1)))


def test_a_low_wide_rise_is_as_bright_as_the_ground(studio: Studio) -> None:
    """Land that is all but level, of the ground's albedo, returns what the ground returns."""
    camera = {"pitch_deg": -60.0, "altitude_m": 3000.0}
    plain = free_sun(40, camera=camera)
    low = free_sun(40, camera=camera, relief={"form": "hills", "highest_m": 10, "north_km": 0,
                                              "extent_km": 60, "ruggedness": 0,
                                              "albedo": plain.air.ground_albedo})
    there, here = mean_of(studio, plain, np.s_[:]), mean_of(studio, low, np.s_[:])
    assert here == pytest.approx(there, rel=0.04)


def test_a_mountain_hides_the_sky_and_throws_its_shadow(studio: Studio) -> None:
    """Behind a summit of 1500 m a sun 5° high leaves level ground dark for 1500/tan 5° = 17 km."""
    relief = {"form": "mountain", "highest_m": 1500, "extent_km": 14, "north_km": 12,
              "albedo": 0.14}
    sky = free_sun(5, relief=relief, camera={"heading_deg": 0, "pitch_deg": 5, "lens_mm": 24})
    bare = sky.model_copy(update={"relief": Relief()})
    light = studio.render(sky, Wish(160, 90, "draft")).light
    clear = studio.render(bare, Wish(160, 90, "draft")).light
    dark = (light[..., 1] < 0.7 * clear[..., 1])[:, 60:100]
    top = np.argmax(dark.any(axis=1))
    seen = math.degrees(math.atan(1500.0 / 12_000.0))
    rows = 0.5 - math.tan(math.radians(seen - 5.0)) / (2.0 * math.tan(
        0.5 * sky.camera.fov_v_rad))
    assert abs(top - rows * 90) < 6  # the summit stands about where it must
    assert np.allclose(light[:10], clear[:10], rtol=0.02)  # sky above it is as it was


@pytest.mark.parametrize("sun", [5.0, 10.0])
def test_a_shadow_on_level_ground_is_as_long_as_trigonometry_has_it(studio: Studio, sun: float
                                                                    ) -> None:
    """From a summit of 1500 m, 12 km north, it reaches where a ray to the sun has risen as high
    over the curved earth, across the border of the relief; within 5 %: its tip is narrower than
    what the plan shows."""
    relief = {"form": "mountain", "highest_m": 1500, "extent_km": 14, "north_km": 12,
              "ruggedness": 0.3}
    sky = free_sun(sun, relief=relief)
    bare = sky.model_copy(update={"relief": Relief()})
    plan = Wish(40, 400, "draft", "plan", extent_km=8.0)  # 80 km to the north and south
    ratio = studio.render(sky, plan).light[..., 1] / studio.render(bare, plan).light[..., 1]
    north = 40.0 - 0.2 * (np.arange(400) + 0.5)
    tip = north[(ratio < 0.9 * np.median(ratio[:30])).any(axis=1)].max()
    rise, bend = math.tan(math.radians(sun)), 0.5 / 6371.0
    long = (math.sqrt(rise * rise + 6.0 * bend) - rise) / (2.0 * bend)
    assert tip - 12.0 == pytest.approx(long, rel=0.05)

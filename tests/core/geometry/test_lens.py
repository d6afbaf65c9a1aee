"""From pixels to rays, and which of them are worth marching."""

from __future__ import annotations

import math

import numpy as np
import pytest

from dovrek.core.geometry.lens import direction_at, dome_lens, picture_lens, place_of, plan_lens
from dovrek.core.geometry.views import OFFERED, lens_of, pixel_size, ray_of
from dovrek.core.geometry.views.plan import found_on, laid_out
from dovrek.core.geometry.views.view import Frame, Lens
from dovrek.core.picture.render import Metered
from dovrek.core.picture.sparing import find_horizon
from dovrek.core.picture.studio import Studio
from dovrek.core.prepare.fineness import SKETCH
from dovrek.core.run.workers import Cancel
from dovrek.core.transport.scene import grain
from dovrek.sky.document import Camera, Film
from tests.conftest import free_sun


def ray(lens: Lens, u: float, v: float) -> tuple[np.ndarray, np.ndarray]:
    place, way = np.empty(2), np.empty(3)
    ray_of(lens, u, v, place, way)
    return place, way


@pytest.mark.parametrize(("mm", "degrees"), [(24.0, 73.7), (35.0, 54.4), (50.0, 39.6)])
def test_angle_between_the_edges(mm: float, degrees: float) -> None:
    """24 mm on 36 mm: 73.7°, 35 mm: 54.4°, 50 mm: 39.6° (geometry)."""
    lens = picture_lens(Camera(lens_mm=mm, pitch_deg=0.0))
    left, right = ray(lens, 0.0, 0.5)[1], ray(lens, 1.0, 0.5)[1]
    assert math.degrees(math.acos(left @ right)) == pytest.approx(degrees, abs=0.05)
    assert right[0] > 0.0 > left[0]  # heading north, east lies to the right


def test_heading_pitch_and_roll() -> None:
    middle = ray(picture_lens(Camera(heading_deg=90.0, pitch_deg=30.0)), 0.5, 0.5)[1]
    assert middle == pytest.approx([math.cos(math.pi / 6), 0.0, 0.5], abs=1e-12)
    right = ray(picture_lens(Camera(pitch_deg=0.0, roll_deg=10.0)), 1.0, 0.5)[1]
    assert right[2] < 0.0  # turned clockwise as seen: the right edge sinks


@pytest.mark.parametrize("centre", [0.0, 135.0])
def test_columns_of_a_dome(centre: float) -> None:
    """Azimuth a stands at column ((a − c)/360 + ½) modulo 1, row 0 is the zenith (contract)."""
    for azimuth in (0.0, 90.0, 200.0):
        way = ray(dome_lens(centre), ((azimuth - centre) / 360.0 + 0.5) % 1.0, 0.5)[1]
        found = math.degrees(math.atan2(way[0], way[1])) % 360.0
        assert found == pytest.approx(azimuth, abs=1e-9)
    assert ray(dome_lens(centre), 0.3, 0.0)[1][2] == pytest.approx(1.0)


def test_places_of_a_plan() -> None:
    place, way = ray(plan_lens(20e3, 2.0), 1.0, 0.0)
    assert list(place) == [10e3, 5e3] and list(way) == [0.0, 0.0, -1.0]
    assert pixel_size(plan_lens(20e3), 100, 100) == pytest.approx(200.0)
    assert pixel_size(dome_lens(), 360, 180) == pytest.approx(math.radians(1.0))


def test_horizon_pixels_are_those_it_crosses(studio: Studio) -> None:
    """Level camera: one row; looking up: none; a plan has no horizon."""
    marked = np.empty((9, 16), dtype=np.uint8)
    scene = studio.preparer.scene(free_sun(30), SKETCH, Cancel()).scene

    def find(lens: Lens) -> np.ndarray:
        find_horizon(scene, lens, 0.0, 16, 9, 0, 0, np.empty(2), np.empty(3),
                     np.empty((10, 17), dtype=np.uint8), marked)
        return marked.copy()

    level = find(picture_lens(Camera(pitch_deg=0.0), 16 / 9))
    assert level[4].all() and level.sum() == 16
    assert find(picture_lens(Camera(pitch_deg=60.0), 16 / 9)).sum() == 0
    assert find(plan_lens(20e3, 16 / 9)).sum() == 0
    rolled = find(picture_lens(Camera(pitch_deg=0.0, roll_deg=20.0), 16 / 9))
    assert rolled.any(axis=0).all() and len(set(np.nonzero(rolled)[0])) > 3


def test_grain_has_no_slow_waves() -> None:
    """Void and cluster (Ulichney 1993): every value once, low frequencies a thousandth of high."""
    values = grain().astype(float)
    assert len(np.unique(values)) == values.size == 4096
    power = np.abs(np.fft.fft2(values - values.mean())) ** 2
    way = np.minimum(np.arange(64), 64 - np.arange(64))
    radius = np.hypot(way[:, None], way[None, :])
    slow, fast = power[(radius > 0) & (radius < 6)].mean(), power[radius > 20].mean()
    assert slow < 1e-3 * fast


def test_the_film_goes_before_the_meter() -> None:
    metered = Metered(14.5, 5600)
    assert metered.set_by(Film(curve="plain")) == metered
    assert metered.set_by(Film(exposure_ev=9.0))[:2] == (9.0, 5600)
    assert metered.set_by(Film(white_balance_k=3200.0))[:2] == (14.5, 3200.0)


@pytest.mark.parametrize("name", [name for name in OFFERED if not OFFERED[name].from_above])
def test_places_and_directions_of_a_view_answer_each_other(name: str) -> None:
    """What a view draws at a place lies there (its two maps are inverses)."""
    view = OFFERED[name]
    lens = lens_of(view, Camera(heading_deg=70.0, pitch_deg=20.0), Frame(1.5, 30.0))
    for u, v in ((0.5, 0.4), (0.3, 0.55), (0.62, 0.71), (0.48, 0.31)):
        direction = direction_at(lens, u, v)
        assert np.linalg.norm(direction) == pytest.approx(1.0)
        assert place_of(lens, direction) == pytest.approx((u, v), abs=1e-6)


def test_a_fisheye_has_the_zenith_in_the_middle_and_the_horizon_at_its_rim() -> None:
    """Equidistant: the angle from the zenith grows evenly (common practice of all-sky lenses)."""
    lens = lens_of(OFFERED["fisheye"], Camera(heading_deg=90.0), Frame(1.0))
    assert direction_at(lens, 0.5, 0.5) == pytest.approx([0.0, 0.0, 1.0], abs=1e-9)
    assert direction_at(lens, 0.5, 1.0) == pytest.approx([1.0, 0.0, 0.0], abs=1e-9)  # heading
    assert direction_at(lens, 1.0, 0.5) == pytest.approx([0.0, -1.0, 0.0], abs=1e-9)  # its right
    assert direction_at(lens, 0.5, 0.75)[2] == pytest.approx(math.cos(math.radians(45.0)))


def test_a_plan_wider_than_the_planet_is_a_globe() -> None:
    """Orthographic projection: a quarter of the way round lies on the rim, an arc of 30° half
    way to it; beside the globe rays look up. It fills the height whatever width was asked."""
    radius = 1e5
    lens = lens_of(OFFERED["plan"], Camera(), Frame(1.5, extent_m=2e8, planet_m=radius))
    assert lens.globe == radius and lens.half_height == pytest.approx(1.04 * radius)
    assert lens.half_width == pytest.approx(1.5 * lens.half_height)
    x = 0.5 + 0.5 * (0.5 * radius) / lens.half_width
    (east, north), down = ray(lens, x, 0.5)
    assert east == pytest.approx(radius * math.pi / 6.0) and abs(north) < 1e-6 and down[2] == -1.0
    assert ray(lens, 0.01, 0.01)[1][2] == 1.0
    for far, bearing in ((2e4, 0.3), (1.2e5, 2.0), (1.5e5, 5.0)):
        there = far * math.sin(bearing), far * math.cos(bearing)
        assert found_on(lens, *laid_out(lens, *there)) == pytest.approx(there, abs=1.0)
    rim = laid_out(lens, 4e5, 0.0)  # on the far side
    assert rim == pytest.approx((radius, 0.0))
    flat = lens_of(OFFERED["plan"], Camera(), Frame(1.5, extent_m=1.9e5, planet_m=radius))
    assert flat.globe == 0.0 and laid_out(flat, 3.0, 4.0) == found_on(flat, 3.0, 4.0) == (3.0, 4.0)

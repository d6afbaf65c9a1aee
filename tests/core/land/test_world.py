"""A map of the world: what it says lies where latitude and longitude say, from near and far."""

from __future__ import annotations

import base64
import io
import math
from typing import Any

import numpy as np
import pytest
from PIL import Image

from dovrek.core.geometry.travel import foot_on
from dovrek.core.land.world import land_share_of, world_of
from dovrek.core.picture.studio import Studio, Wish
from dovrek.formats.cover_maps import MapError
from dovrek.formats.world_maps import embedded
from dovrek.sky.advisories import advisories
from dovrek.sky.document import Sky
from dovrek.sky.ground import Ground
from tests.conftest import free_sun

HIGH = 64


def world() -> np.ndarray:
    """Land from 20° to 60° east, from the equator to 50° north, and all around the south pole."""
    latitude = 90.0 - 180.0 * (np.arange(HIGH) + 0.5) / HIGH
    longitude = 360.0 * (np.arange(2 * HIGH) + 0.5) / (2 * HIGH) - 180.0
    block = np.outer((latitude > 0) & (latitude < 50), (longitude > 20) & (longitude < 60))
    return np.where(block | (latitude < -70)[:, None], 255, 0).astype(np.uint8)


def file_of(values: np.ndarray) -> bytes:
    buffer = io.BytesIO()
    Image.fromarray(values).save(buffer, "PNG")
    return buffer.getvalue()


def there(latitude: float, longitude: float, height: float = 900.0, **more: Any) -> Sky:
    return free_sun(55, ground={"kind": "map", "map": embedded(file_of(world()))},
                    site={"latitude": latitude, "longitude": longitude, "timezone": "UTC"},
                    camera={"pitch_deg": -90.0, "altitude_m": height}, **more)


def brightness(studio: Studio, sky: Sky) -> float:
    light = studio.render(sky, Wish(64, 36, "draft")).light[..., :3]
    return float((light[..., 0] / light[..., 2]).mean())  # water is bluer than land


def test_land_and_water_lie_where_the_site_is(studio: Studio) -> None:
    """Seen straight down from 900 m: deep in the block of land, and a few degrees off its coasts
    on each side, over the date line, at a pole."""
    land = brightness(studio, there(25.0, 40.0))
    water = brightness(studio, there(25.0, 0.0))
    assert land > 1.3 * water
    middle = 0.5 * (land + water)
    for latitude, longitude, is_land in [
            (25.0, 24.0, True), (25.0, 16.0, False), (25.0, 56.0, True), (25.0, 65.0, False),
            (4.0, 40.0, True), (-6.0, 40.0, False), (45.0, 40.0, True), (56.0, 40.0, False),
            (-80.0, 179.0, True), (-80.0, -179.0, True), (-89.5, 0.0, True), (89.5, 0.0, False)]:
        found = brightness(studio, there(latitude, longitude))
        assert (found > middle) == is_land, (latitude, longitude)


def test_far_places_lie_by_their_arcs(studio: Studio) -> None:
    """From 3000 km over 25° north, 0° east, the coast at 20° east stands where its arc lies."""
    sky = there(25.0, 0.0, 3.0e6)
    sky = sky.model_copy(update={"camera": sky.camera.model_copy(update={
        "heading_deg": 0.0, "lens_mm": 18.0})})
    size = (192, 108)
    light = studio.render(sky, Wish(*size, "draft")).light[..., :3]
    row = light[54]  # across the middle: due east to the right, along a great circle
    blue = row[:, 0] / row[:, 2]
    sea, land = np.median(blue[80:110]), np.median(blue[150:158])
    coast = next(k for k in range(100, 192) if blue[k] > 0.5 * (sea + land))
    radius, far = 6.371e6, 3.0e6
    tan_half = 36.0 / 2.0 / 18.0
    tangent = (coast + 0.5 - 96.0) / 96.0 * tan_half
    # Arc from the foot to where that ray meets the ground (sine rule).
    off = math.atan(tangent)
    arc = math.asin((radius + far) / radius * math.sin(off)) - off
    # Due east along a great circle from 25° north: longitude by tan λ = tan arc / cos φ.
    longitude = math.degrees(math.atan2(math.sin(arc), math.cos(25 * math.pi / 180)
                                        * math.cos(arc)))
    assert longitude == pytest.approx(20.0, abs=2.0)


def test_share_of_land_and_the_foot() -> None:
    """Area by the cosine of latitude: of the block 40°/360° · (sin 50° − 0)/2, of the cap
    (1 − sin 70°)/2."""
    share = 40.0 / 360.0 * math.sin(math.radians(50.0)) / 2.0 + (1 - math.sin(math.radians(70))) / 2
    assert land_share_of(Ground(kind="map", map=embedded(file_of(world())))) == pytest.approx(
        share, abs=0.006)
    sky = there(60.0, 10.0)
    sky = sky.model_copy(update={"camera": sky.camera.model_copy(update={
        "north_m": 111_195.0, "east_m": 0.0})})
    latitude, longitude = (math.degrees(v) for v in foot_on(sky))
    assert (latitude, longitude) == pytest.approx((61.0, 10.0), abs=0.01)


@pytest.mark.parametrize(("values", "part"), [
    (np.zeros((30, 90), np.uint8) + np.arange(90, dtype=np.uint8), "twice as wide"),
    (np.full((32, 64), 90, np.uint8), "one grey")])
def test_maps_that_are_none_are_refused(values: np.ndarray, part: str) -> None:
    with pytest.raises(MapError, match=part):
        embedded(file_of(values))
    with pytest.raises(MapError, match="empty"):
        embedded(b"")


def test_what_is_kept_is_read_and_what_is_missing_says_so() -> None:
    kept = world_of(embedded(file_of(world())))
    assert kept is not None and kept.shape == (HIGH, 2 * HIGH)
    assert world_of("data:image/png;base64," + base64.b64encode(b"x").decode()) is None
    missing = free_sun(50, ground={"kind": "map", "map": "world.png"})
    assert "world map missing" in [a.code for a in advisories(missing, 50.0)]

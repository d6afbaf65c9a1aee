"""Where a camera that has travelled over the round planet stands, and how directions turn with it.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from dovrek.sky.document import Sky

Vector = NDArray[np.float64]
# Of the planet's round that a travel takes before the sun is seen from another place: nearer, a
# camera that passes by its clouds would have all light solved anew for hundredths of a degree.
STAYS_RAD = math.radians(0.5)


def foot_on(sky: Sky) -> tuple[float, float]:
    """Latitude and longitude of the camera's foot, radians."""
    return _moved(sky, 1.0)


def _moved(sky: Sky, share: float) -> tuple[float, float]:
    """The same after a share of the camera's travel."""
    radius = sky.air.planet_m
    latitude = math.radians(sky.site.latitude) + share * sky.camera.north_m / radius
    latitude = min(max(latitude, -0.5 * math.pi), 0.5 * math.pi)
    across = share * sky.camera.east_m / (radius * max(math.cos(latitude), 1e-3))
    return latitude, math.radians(sky.site.longitude) + across


def arc_of(sky: Sky) -> float:
    """How far round the planet the camera has travelled, radians."""
    return math.hypot(sky.camera.east_m, sky.camera.north_m) / sky.air.planet_m


def _axes(latitude: float, longitude: float) -> Vector:
    """East, north and up of a place, rows of a rotation from the planet's own axes."""
    s, c, a, b = (math.sin(latitude), math.cos(latitude), math.sin(longitude),
                  math.cos(longitude))
    return np.array([[-a, b, 0.0], [-s * b, -s * a, c], [c * b, c * a, s]])


def _turn(sky: Sky) -> Vector | None:
    """From east, north and up of the site to those of the camera's foot; None near the site."""
    arc = arc_of(sky)
    if arc <= STAYS_RAD:
        return None
    site = math.radians(sky.site.latitude), math.radians(sky.site.longitude)
    return _axes(*_moved(sky, 1.0 - STAYS_RAD / arc)) @ _axes(*site).T


def from_foot(sky: Sky, direction: Vector) -> Vector:
    """A direction to something far off, given at the site, as the camera's foot has it."""
    turn = _turn(sky)
    return direction if turn is None else np.asarray(turn @ direction)


def from_site(sky: Sky, direction: Vector) -> Vector:
    """The inverse of `from_foot`."""
    turn = _turn(sky)
    return direction if turn is None else np.asarray(turn.T @ direction)
